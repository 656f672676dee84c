package oauth

import (
	"strings"

	"tressik.example/internal/core/finding"
)

// Denial is why a provider answered access_denied (RFC 6749, section 4.1.2.1), as far as its own words tell.
type Denial string

// The usual reasons for access_denied.
const (
	DeniedUntold    Denial = ""               // it gave none
	DeniedPerson    Denial = "cancelled"      // whoever signs in cancelled, or did not agree
	DeniedConsent   Denial = "not consented"  // an administrator would have to agree first
	DeniedAdmission Denial = "not admitted"   // it does not let them into this app
	DeniedStrength  Denial = "not strong"     // they did not sign in strongly enough
	DeniedNetwork   Denial = "not from there" // not from that network
)

// ReadDenial reads the reason out of an error's description. Providers write it for developers, each in words of its
// own; what fits none of the usual reasons is not told.
func ReadDenial(description string) Denial {
	s := strings.ToLower(description)
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(s, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("sign-in-from", "network", "ip address", "location"):
		return DeniedNetwork
	case has("multi-factor", "multifactor", "second factor", "strength", "authentication context", "stronger"):
		return DeniedStrength
	case has("administrator", "admin consent", "approval"):
		return DeniedConsent
	case has("cancel", "declin", "did not agree", "denied the request", "denied access to", "refused the request",
		"user denied", "owner denied", "rejected"):
		return DeniedPerson
	case has("consent"):
		return DeniedConsent
	case has("admit", "assigned", "not allowed", "not authorized", "not authorised", "not a member", "not permitted",
		"policy"):
		return DeniedAdmission
	}
	return DeniedUntold
}

// denied says of an answer of access_denied which of its usual reasons fits, and what to do about that.
func denied(description string, r *Registered) (id finding.ID, words string, fix finding.Remedy) {
	name, owner := r.Trust.Name, "ask the owner of "+r.Provider.Name+" "
	here := func(own finding.Remedy, far string) finding.Remedy { // who can mend it
		if r.Provider.Own {
			return own
		}
		return finding.Do(far)
	}
	show := func(s string) finding.Remedy { return finding.Do(s).Then(finding.Run("trust", "show", name)) }
	id = finding.OAuthAccessDenied
	switch ReadDenial(description) {
	case DeniedPerson:
		return finding.OAuthCancelled, "whoever signed in cancelled, or did not agree",
			finding.Do("sign in again, and agree to what is asked for")
	case DeniedConsent:
		return id, "an administrator has to agree first",
			here(r.Provider.Agree(name, ""), owner+"to consent to what the app asks for")
	case DeniedStrength:
		return id, "the sign-in was not strong enough",
			finding.Do("sign in again with a second factor, or " + owner + "which policy asks for it")
	case DeniedNetwork:
		return id, "nobody may sign in from there",
			here(show("sign in from where the policy lets people, or change it"),
				"sign in from another network, or "+owner+"which policy refuses this one")
	case DeniedAdmission:
		return id, "they are not admitted",
			here(show("where they are to get in, change whom the trust admits; else it is as it should be"),
				"where they are to get in, "+owner+"to admit them to the app; else it is as it should be")
	}
	return id, "no reason is given: they cancelled, nobody consented, or they are not admitted",
		finding.Do(owner + "which of the three it was, with the time of the sign-in")
}
