package saml

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/near"
)

// JudgeRoles judges an entity in each role that it has; where it has none that is read, it says why.
func JudgeRoles(e *Entity, now time.Time) (out finding.List) {
	if e.IDP != nil {
		out = append(out, JudgeEntity(e, finding.Provider, now)...)
	}
	if e.SP != nil {
		out = append(out, JudgeEntity(e, finding.App, now)...)
	}
	if e.IDP == nil && e.SP == nil && len(e.Unread) > 0 {
		side := finding.App
		if e.Unread[0].Descriptor == "IDPSSODescriptor" {
			side = finding.Provider
		}
		out = append(out, JudgeEntity(e, side, now)...)
	}
	return out
}

// JudgeEntity reports what an administrator should know of an entity that is to play a side: role, endpoints,
// certificates, validity (SAML Metadata, sections 2.3 and 2.4).
func JudgeEntity(e *Entity, side finding.Side, now time.Time) finding.List {
	var out finding.List
	role, roleName, other := e.SP, "SPSSODescriptor", e.IDP
	if side == finding.Provider {
		role, roleName, other = e.IDP, "IDPSSODescriptor", e.SP
	}
	if role == nil {
		saw, fix := "no SAML 2.0 role", "ask for metadata with an "+roleName+" that supports SAML 2.0"
		var unread []string
		for _, u := range e.Unread {
			if u.Descriptor == roleName {
				unread = append(unread, u.String())
			}
		}
		switch {
		case len(unread) > 0:
			saw = "only " + strings.Join(unread, "; ")
			fix = "have " + NSProtocol + " named in its protocolSupportEnumeration, if it is one of SAML 2.0"
		case other != nil:
			saw = "only the opposite role"
			fix = "this is the metadata of the other kind of party: add it as a provider"
			if side == finding.Provider {
				fix = "this is the metadata of the other kind of party: add it as an app"
			}
		}
		out.Add(finding.Finding{ID: finding.MetadataRole, Level: finding.Error, Check: "role", Saw: saw,
			Expected: roleName + " of SAML 2.0", Side: side, Fix: finding.Do(fix), Ref: "SAML Metadata 2.4"})
		return out
	}
	out.Pass(finding.MetadataRole, "role", roleName)
	if role.MoreOfTheKind > 0 {
		out.Add(finding.Finding{ID: finding.MetadataSecondRole, Level: finding.Warning, Check: "role",
			Saw:      fmt.Sprintf("%d descriptors of the role", role.MoreOfTheKind+1),
			Expected: "one " + roleName + "; only the first is read", Side: side,
			Fix: finding.Do("ask for metadata with one descriptor for SAML 2.0, or one entity for each"),
			Ref: "SAML Metadata 2.3.2"})
	}
	JudgeValidity(&out, e.Until(role), side, now)
	JudgeEntityID(&out, e.ID, side)
	if side == finding.Provider {
		judgeEndpoints(&out, role.SSO, "SingleSignOnService", side, BindingRedirect, BindingPOST)
	} else {
		judgeEndpoints(&out, role.ACS, "AssertionConsumerService", side, BindingPOST)
		judgeACSIndexes(&out, role.ACS)
	}
	judgeFormats(&out, role, side)
	judgeLogout(&out, role, side)
	judgeKeys(&out, role, side, now)
	return out
}

// JudgeEntityID judges the form of an entity ID (SAML Core, section 8.3.6).
func JudgeEntityID(out *finding.List, id string, side finding.Side) {
	f := finding.Finding{ID: finding.MetadataEntityID, Level: finding.Note, Check: "entity ID", Saw: id, Side: side,
		Expected: "an absolute URI of at most 1024 characters", Ref: "SAML Core 8.3.6"}
	switch u, err := url.Parse(id); {
	case len(id) > 1024:
		f.Level, f.Saw = finding.Error, fmt.Sprintf("%d characters: %.40s…", len(id), id)
		f.Fix = finding.Do("give the party an entity ID of at most 1024 characters; longer ones are cut or refused " +
			"elsewhere")
	case id != strings.TrimSpace(id):
		f.Level, f.Saw = finding.Error, fmt.Sprintf("%q", id)
		f.Fix = finding.Do("take the white space off; it counts when entity IDs are compared")
	case err != nil || u.Scheme == "":
		f.Fix = finding.Do("choose a URI under a name of your own the next time an entity ID is chosen; changing " +
			"this one " +
			"is work on every other side")
	case u.User != nil:
		f.Level, f.Saw = finding.Error, u.Redacted()
		f.Fix = finding.Do("take the user name out of it: entity IDs are published")
	default:
		return
	}
	out.Add(f)
}

// JudgeValidity judges until when metadata may be trusted; nil is no end (SAML Metadata, section 2.3.2).
func JudgeValidity(out *finding.List, until *time.Time, side finding.Side, now time.Time) {
	if until == nil {
		return
	}
	saw := until.Format("2006-01-02 15:04 UTC")
	switch left := until.Sub(now); {
	case left <= 0:
		out.Add(finding.Finding{ID: finding.MetadataExpired, Level: finding.Error, Check: "validUntil", Saw: saw,
			Expected: "a time to come", Side: side, Fix: finding.Do("fetch the metadata again from its source"),
			Ref: "SAML Metadata 2.3.2"})
	case left < 14*24*time.Hour:
		out.Add(finding.Finding{ID: finding.MetadataExpiring, Level: finding.Warning, Check: "validUntil", Saw: saw,
			Expected: "more than 14 days left", Side: side,
			Fix: finding.Do("plan to read the metadata again before that day")})
	default:
		out.Pass(finding.MetadataValidity, "validUntil", saw)
	}
}

func judgeEndpoints(out *finding.List, list []Endpoint, name string, side finding.Side, bindings ...string) {
	if len(list) == 0 {
		out.Add(finding.Finding{ID: finding.MetadataEndpoint, Level: finding.Error, Check: name, Of: name, Saw: "none",
			Expected: "at least one", Side: side, Fix: finding.Do("ask for complete metadata")})
		return
	}
	use, ok := EndpointFor(list, bindings...)
	if !ok {
		var saw []string
		for _, e := range list {
			saw = append(saw, ShortName(e.Binding))
		}
		want := make([]string, len(bindings))
		for i, b := range bindings {
			want[i] = ShortName(b)
		}
		out.Add(finding.Finding{ID: finding.MetadataEndpoint, Level: finding.Error, Check: name, Of: name,
			Saw: "only " + strings.Join(saw, ", "), Expected: strings.Join(want, " or "), Side: side,
			Fix: finding.Do("ask for an endpoint with a binding that browsers use")})
		return
	}
	problems := len(*out)
	for _, e := range list {
		judgeURL(out, e.Location, name, side)
	}
	if len(*out) == problems {
		out.Pass(finding.MetadataEndpoint, name, use.Location)
	}
}

// judgeFormats judges the name identifier formats of a role: one that is written wrongly is another one.
func judgeFormats(out *finding.List, role *Role, side finding.Side) {
	well := role.Formats()
	for _, text := range role.NameIDFormats {
		meant := MeantFormat(text)
		if slices.Contains(well, text) && (meant == "" || meant == text) {
			continue
		}
		f := finding.Finding{ID: finding.MetadataNameIDFormat, Level: finding.Warning, Check: "name identifier format",
			Of: text, Saw: text, Expected: meant, Side: side, Ref: "SAML Core 8.3",
			Fix: finding.Do("write " + meant + " in the metadata")}
		if meant == "" {
			f.Expected, f.Fix = "a URI", finding.Do("write the format's whole URI in the metadata, or leave it out")
		}
		out.Add(f)
	}
}

// judgeLogout judges single logout services, which a role need not have.
func judgeLogout(out *finding.List, role *Role, side finding.Side) {
	if len(role.SLO) == 0 {
		return
	}
	if _, ok := role.LogoutEndpoint(false); !ok {
		out.Add(finding.Finding{ID: finding.MetadataLogout, Level: finding.Note, Check: "SingleLogoutService",
			Saw: "by no binding that browsers use", Expected: "HTTP-Redirect or HTTP-POST", Side: side,
			Fix: finding.Do("ask for an endpoint with one of them, or have people sign out at each app")})
	}
	for _, e := range role.SLO {
		judgeURL(out, e.Location, "SingleLogoutService", side)
		if e.ResponseLocation != "" {
			judgeURL(out, e.ResponseLocation, "SingleLogoutService", side)
		}
	}
}

func judgeURL(out *finding.List, loc, name string, side finding.Side) {
	u, err := url.Parse(loc)
	switch {
	case loc == "":
		out.Add(finding.Finding{ID: finding.MetadataEndpointURL, Level: finding.Error, Check: name, Saw: "no Location",
			Expected: "an absolute https: URL", Side: side, Fix: finding.Do("write the Location into the metadata"),
			Ref: "SAML Metadata 2.2.2"})
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		out.Add(finding.Finding{ID: finding.MetadataEndpointURL, Level: finding.Error, Check: name, Of: loc, Saw: loc,
			Expected: "an absolute https: URL", Side: side, Fix: finding.Do("correct the Location in the metadata")})
	case u.Scheme == "http" && !judge.IsLoopback(u.Hostname()):
		out.Add(finding.Finding{ID: finding.MetadataHTTP, Level: finding.Warning, Check: name, Of: loc, Saw: loc,
			Expected: "https:", Side: side,
			Fix: finding.Do("serve it over https; over http anyone on the way reads and changes what passes")})
	case u.User != nil:
		out.Add(finding.Finding{ID: finding.MetadataEndpointUser, Level: finding.Error, Check: name, Of: loc,
			Saw: u.Redacted(), Expected: "a URL without a user name", Side: side,
			Fix: finding.Do("take user name and password out of the Location: metadata is public, and browsers do " +
				"not send " +
				"them")})
	case u.Fragment != "":
		out.Add(finding.Finding{ID: finding.MetadataEndpointURL, Level: finding.Error, Check: name, Of: loc, Saw: loc,
			Expected: "a URL without a fragment", Side: side, Fix: finding.Do("take off #" + u.Fragment)})
	}
}

func judgeACSIndexes(out *finding.List, list []Endpoint) {
	seen := map[int]string{}
	for _, e := range list {
		if e.Binding == BindingRedirect {
			out.Add(finding.Finding{ID: finding.MetadataEndpoint, Level: finding.Note,
				Check: "AssertionConsumerService", Of: e.Location, Saw: "HTTP-Redirect at " + e.Location,
				Expected: "HTTP-POST", Side: finding.App,
				Fix: finding.Do("take it out: no response is sent by redirect"), Ref: "SAML Profiles 4.1.2"})
		}
		if e.Unnumbered {
			out.Add(finding.Finding{ID: finding.MetadataACSIndex, Level: finding.Warning,
				Check: "AssertionConsumerService index", Of: e.Location, Saw: "none at " + e.Location,
				Expected: "each endpoint with an index", Side: finding.App,
				Fix: finding.Do("number the endpoints"), Ref: "SAML Metadata 2.2.3"})
			continue
		}
		if first, ok := seen[e.Index]; ok {
			out.Add(finding.Finding{ID: finding.MetadataACSIndex, Level: finding.Warning,
				Check:    "AssertionConsumerService index",
				Saw:      fmt.Sprintf("index %d at %s and at %s", e.Index, first, e.Location),
				Expected: "each index once", Side: finding.App, Fix: finding.Do("number the endpoints apart"),
				Ref: "SAML Metadata 2.2.3"})
		}
		seen[e.Index] = e.Location
	}
}

func judgeKeys(out *finding.List, role *Role, side finding.Side, now time.Time) {
	signing := 0
	for _, k := range role.Keys {
		use := k.Use
		if use == "" {
			use = "signing and encryption"
		}
		if k.Use != "" && k.Use != "signing" && k.Use != "encryption" {
			want := "signing or encryption"
			if n := near.Names(strings.ToLower(k.Use), []string{"signing", "encryption"}); len(n) > 0 {
				want = n[0]
			}
			out.Add(finding.Finding{ID: finding.MetadataKeyUse, Level: finding.Error, Check: "use of a key", Of: k.Use,
				Saw: k.Use, Expected: want, Side: side, Ref: "SAML Metadata 2.4.1.1",
				Fix: finding.Do("write use=\"" + want +
					"\" in the KeyDescriptor, or none for both; this key is used for nothing")})
			continue
		}
		c, err := k.X509()
		if k.Problem != "" || err != nil {
			saw := k.Problem
			if saw == "" {
				saw = err.Error()
			}
			out.Add(finding.Finding{ID: finding.MetadataKey, Level: finding.Error, Check: use + " certificate", Of: use,
				Saw: saw, Expected: "an X.509 certificate", Side: side,
				Fix: finding.Do("ask for metadata with the certificate, never with a private key")})
			continue
		}
		if k.Use != "encryption" {
			signing++
		}
		for _, f := range keys.Judge(c, use, side, now) {
			if f.ID == finding.CertificateExpired && role.others(use, now) {
				f.ID, f.Level = finding.CertificateSuperseded, finding.Note
				f.Expected = "the one alone that is in force"
				f.Fix = finding.Do("take it out of the metadata: another " + use + " certificate is in force")
			}
			out.Add(f)
		}
	}
	if side == finding.Provider && signing == 0 {
		out.Add(finding.Finding{ID: finding.MetadataNoSigningKey, Level: finding.Error, Check: "signing certificate",
			Saw: "none", Expected: "at least one", Side: side,
			Fix: finding.Do("without it no response of this provider can be verified; " +
				"ask for metadata with a signing KeyDescriptor")})
	}
	if side == finding.App && role.RequestsSigned && signing == 0 {
		out.Add(finding.Finding{ID: finding.MetadataNoSigningKey, Level: finding.Warning, Check: "signing certificate",
			Saw:      "AuthnRequestsSigned and no signing certificate",
			Expected: "the certificate that verifies its requests",
			Side:     side, Fix: finding.Do("ask for metadata with a signing KeyDescriptor")})
	}
}
