package arrivals

import "tressik.example/internal/core/federation"

// RouteResult is what is told of a route.
type RouteResult struct {
	Domain string `json:"domain"`
	Trust  string `json:"trust"`
}

// RouteResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func RouteResultOf(r *federation.Route) RouteResult { return RouteResult(*r) }

// Bound is what is told of a person who was bound to a subject at an upstream provider.
type Bound struct {
	Person  string `json:"person"`
	Subject string `json:"subject"`
	Trust   string `json:"trust"`
}
