package handoff

import "tressik.example/internal/core/federation"

// Left is what is told of the work on a trust: what is done, and what is left.
type Left struct {
	Standing federation.Standing `json:"standing"`
	Steps    []Todo              `json:"steps" rows:"each"`
	Trust    string              `json:"trust"`
}
