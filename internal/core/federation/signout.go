package federation

import (
	"strings"

	"tressik.example/internal/core/finding"
)

// SignOut says what signing out ends over a trust, by what both sides published: what is told passes, what stays signed
// in is a note with which side would have to change what.
func (s *SAMLTerms) SignOut(app, provider *Party) finding.List {
	var out finding.List
	by := asPublished(app, provider)
	_, at := provider.Entity.IDP.LogoutEndpoint(false)
	_, back := app.Entity.SP.LogoutEndpoint(false)
	if at && back {
		out.Pass(finding.SignoutProvider, "signing out at "+app.Name, "ends the session at "+provider.Name+" too"+by)
		out.Pass(finding.SignoutApp, "signing out at "+provider.Name, app.Name+" is told (single logout)"+by)
	} else {
		lacks := app
		if !at {
			lacks = provider
		}
		fix := finding.Do("ask whether " + lacks.Name + " has single logout, and enter it").
			Then(finding.Run(string(lacks.Kind), "change", lacks.Name, "--logout", "URL"))
		stays(&out, finding.SignoutProvider, "signing out at "+app.Name,
			provider.Name+" is not told, and stays signed in"+by,
			"single logout on both sides", lacks, fix, "SAML Profiles 4.4")
		stays(&out, finding.SignoutApp, "signing out at "+provider.Name,
			app.Name+" is not told, and stays signed in"+by,
			"single logout on both sides", lacks, fix, "SAML Profiles 4.4")
	}
	if sp := app.Entity.SP; sp != nil && sp.SignedOut != "" {
		out.Pass(finding.SignoutPage, "page after signing out", sp.SignedOut)
	}
	return out
}

// asPublished says of foreign parties that it is so by what they published, or somebody entered: what the real
// ones do when somebody signs out was not seen.
func asPublished(app, provider *Party) string {
	switch {
	case !app.Own && !provider.Own:
		return ", by what the ledger has of both"
	case !app.Own:
		return ", by what the ledger has of " + app.Name
	case !provider.Own:
		return ", by what the ledger has of " + provider.Name
	}
	return ""
}

func stays(out *finding.List, id finding.ID, check, saw, expected string, who *Party, fix finding.Remedy, ref string) {
	out.Add(finding.Finding{ID: id, Level: finding.Note, Check: check, Saw: saw, Expected: expected,
		Side: who.Kind.Side(), Fix: fix,
		Ref: ref})
}

// SignOut says what signing out ends over a trust: see that of SAML.
func (o *OIDCTerms) SignOut(app, provider *Party) finding.List {
	var out finding.List
	doc, c, by := provider.openIDFrame(), app.ClientSide(), asPublished(app, provider)
	if doc == nil || c == nil || !c.Kind.Redirects() {
		return out
	}
	switch {
	case doc.EndSessionEndpoint == "":
		stays(&out, finding.SignoutProvider, "signing out at "+app.Name,
			provider.Name+" has no end_session_endpoint, and stays signed in"+by,
			"an end_session_endpoint", provider, finding.Do("ask its owner whether it has one, and read its discovery "+
				"document again"),
			"OpenID Connect RP-Initiated Logout 2")
	case len(c.AfterSignOut) == 0 && app.Kind == Provider:
		stays(&out, finding.SignoutProvider, "signing out at "+app.Name, "the session at "+provider.Name+
			" stays: Tressik's providers do not sign people out upstream", "a sign-out there too", app,
			finding.Do("tell people to sign out at "+provider.Name+" as well"),
			"OpenID Connect RP-Initiated Logout 3")
	case len(c.AfterSignOut) == 0:
		stays(&out, finding.SignoutProvider, "signing out at "+app.Name,
			"the session at "+provider.Name+" can be ended, and nobody comes back "+
				"to the app", "a URI to return to", app,
			finding.Run("app", "change", app.Name, "--after-sign-out", "URI"),
			"OpenID Connect RP-Initiated Logout 3")
	default:
		out.Pass(finding.SignoutProvider, "signing out at "+app.Name, "ends the session at "+provider.Name+" too"+by)
		out.Pass(finding.SignoutPage, "page after signing out", strings.Join(c.AfterSignOut, ", "))
	}
	switch {
	case c.BackChannelLogout != "" && doc.BackChannelLogout, c.FrontChannelLogout != "" && doc.FrontChannelLogout:
		out.Pass(finding.SignoutApp, "signing out at "+provider.Name, app.Name+" is told"+by)
	case !doc.BackChannelLogout && !doc.FrontChannelLogout:
		stays(&out, finding.SignoutApp, "signing out at "+provider.Name,
			app.Name+" is not told, and stays signed in"+by,
			"a provider that tells its apps", provider,
			finding.Do("ask its owner whether it tells apps of a sign-out, "+
				"and read its discovery document again"), "OpenID Connect Back-Channel Logout 2.1")
	case app.Kind == Provider:
		stays(&out, finding.SignoutApp, "signing out at "+provider.Name, app.Name+" is not told, and stays signed in: "+
			"Tressik's providers hear of no sign-out upstream", "a sign-out there too", app,
			finding.Do("tell people to sign out at "+app.Name+" as well"), "OpenID Connect Back-Channel Logout 2.2")
	default:
		stays(&out, finding.SignoutApp, "signing out at "+provider.Name,
			app.Name+" is not told, and stays signed in"+by,
			"a URI of the app that is told", app,
			finding.Do("ask whether the app has one").Then(finding.Run("app", "change", app.Name,
				"--back-channel-logout", "URI")), "OpenID Connect Back-Channel Logout 2.2")
	}
	return out
}
