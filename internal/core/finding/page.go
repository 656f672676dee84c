package finding

import "strings"

// Blamed says which fact a page of an error is about, "" where it does not tell. Standards name the parameters of
// requests, and pages of errors repeat those names.
func Blamed(page string) FactID {
	s := strings.ToLower(page)
	switch {
	case strings.Contains(s, "redirect"):
		return FactRedirect
	case strings.Contains(s, "acs") || strings.Contains(s, "assertion consumer") || strings.Contains(s,
		"assertionconsumer") || strings.Contains(s, "recipient"):
		return FactACS
	case strings.Contains(s, "scope"):
		return FactPermissions
	case strings.Contains(s, "invalid_client"):
		return FactClientID
	}
	return ""
}
