package desk

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage"
)

// ErrNobody means that a rehearsal needs a person.
var ErrNobody = errors.New("--as PERSON is missing: who signs in?")

func isService(x *stage.Deal) bool {
	return x.Trust.OIDCTerms() != nil && !x.App.Client.Kind.Redirects()
}

// deed is a link of a played client, and what following it does.
type deed struct{ link, does string }

// after is what a client does once somebody is signed in: its calls, a refresh, and sign-out at the end.
func after(x *stage.Deal, in RehearseInput, signedIn bool) []deed {
	if !signedIn {
		return nil
	}
	var out []deed
	for _, c := range in.Call {
		out = append(out, deed{stage.ClientLink(x, "call", url.Values{"permission": {c}}), "the wish to call " + c})
	}
	for _, a := range x.Trust.OIDCTerms().Asks {
		if a.API == "" && a.Name == "offline_access" {
			out = append(out, deed{stage.ClientLink(x, "refresh", nil), "the wish for fresh tokens"})
		}
	}
	if len(in.Trusts) == 1 {
		out = append(out, deed{stage.ClientLink(x, "sign-out", nil), "the wish to sign out"})
	}
	return out
}

// told adds what was found to a rehearsal and shows it.
func told(in RehearseInput, r *federation.Rehearsal, by, what string, found finding.List, records []federation.Record) {
	r.Findings = append(r.Findings, found...)
	r.Records = append(r.Records, records...)
	if in.OnEvents != nil && len(found) > 0 {
		in.OnEvents([]stage.Event{{Trust: r.Trust, By: by, What: what, Findings: found, Records: records}})
	}
}

// rehearseService has a service get a token and call the APIs.
func (d *Desk) rehearseService(s *stage.Stage, w *stage.Walker, x *stage.Deal, in RehearseInput, r *federation.Rehearsal) {
	watch := s.Watch
	s.Watch = func(e stage.Event) {
		if e.What == "access token" { // the API's judgement; the token request's outcome is told by the service itself
			watch(e)
		}
	}
	calls := in.Call
	if len(calls) == 0 {
		calls = s.ServiceCalls(x)
	}
	if len(calls) == 0 {
		calls = []string{""} // the token request says what is missing
	}
	tokens := map[string]string{} // by API
	for _, c := range calls {
		api, _, _ := strings.Cut(c, ":")
		if tokens[api] == "" {
			var found finding.List
			tokens[api], found = s.ServiceToken(x, in.Scope, c)
			w.Server()
			told(in, r, x.App.Party.Name, "answer", found, nil)
			if tokens[api] == "" {
				break
			}
			if in.OnMessage != nil {
				in.OnMessage(r.Trust, "access-token", tokens[api])
			}
		}
		found, records := s.CallAPI(x, tokens[api], c)
		w.Server()
		told(in, r, x.App.Party.Name, "answer", found, records)
	}
	r.Person = ""
	if !r.Findings.Failed() {
		r.Verdict, r.Subject = judge.Accepted, x.Trust.OIDCTerms().ClientID
	}
}

func fillToken(r *federation.Rehearsal, j *oidc.TokenJudgement) {
	r.Verdict, r.Subject, r.Format = j.Verdict, j.Subject, ""
	r.Claims = map[string][]string{}
	for k, v := range j.Body {
		switch k {
		case "iss", "sub", "aud", "exp", "iat", "nonce", "at_hash", "sid", "auth_time", "jti":
		default:
			r.Claims[k] = oidc.Words(v)
		}
	}
}

// ClaimText writes a claim of any JSON type for people.
func ClaimText(v any) string {
	b, err := json.Marshal(v)
	var x any
	if err != nil || json.Unmarshal(b, &x) != nil {
		return fmt.Sprint(v)
	}
	return strings.Join(oidc.Words(x), ", ")
}

// continued says of a second app on the same provider whether single sign-on held.
func continued(in RehearseInput, r *federation.Rehearsal, i int, asked, consented bool, deals []*stage.Deal) {
	if i == 0 || deals[i].Provider != deals[0].Provider {
		return
	}
	if asked {
		told(in, r, "", "session", finding.List{{ID: "session", Level: finding.Note, Check: "single sign-on", Saw: "the provider asked for a sign-in again",
			Expected: "the session of the first app", Side: finding.Provider, Fix: finding.Do("this is right where the second app asks for stronger authentication")}}, nil)
		return
	}
	saw := "no sign-in was asked for"
	if consented {
		saw += ", only consent"
	} else if deals[i].Trust.OIDCTerms() != nil {
		saw = "no sign-in and no consent was asked for"
	}
	var held finding.List
	held.Pass("session", "single sign-on", saw+": the session of "+deals[0].App.Party.Name+" held")
	told(in, r, "", "session", held, nil)
}

// supposeOIDC reads KEY=VALUE for a trust over OpenID Connect.
func (d *Desk) supposeOIDC(x *stage.Deal, key, v string) (err error) {
	switch key {
	case "redirect":
		if u, err := url.Parse(v); err != nil || u.Scheme == "" {
			return fmt.Errorf("--suppose redirect=%s is %w: write a whole URI", v, ErrValue)
		}
		x.Suppose.Redirect = v
	case "client-id":
		x.Suppose.ClientID = v
	case "secret": // no secret itself: what is supposed is kept, and stands in the list of processes
		if v != "other" {
			return fmt.Errorf("--suppose secret=… is %w: write secret=other; to try the real one use --secret-file", ErrValue)
		}
		x.Suppose.Secret = "another secret"
	case "from":
		if x.Suppose.From, err = netip.ParseAddr(v); err != nil {
			return fmt.Errorf("--suppose from=%s is %w: write an address such as 192.0.2.7", v, ErrValue)
		}
	case "clock":
		if x.Suppose.Clock, err = time.ParseDuration(strings.TrimPrefix(v, "+")); err != nil {
			return fmt.Errorf("--suppose clock=%s is %w: write a time span such as +10m or -90s", v, ErrValue)
		}
	case "key":
		if v != "other" {
			return fmt.Errorf("--suppose key=%s is %w: write key=other", v, ErrValue)
		}
		key, err := keys.Generate(d.Rand, "ecdsa-p256")
		if err != nil {
			return err
		}
		x.Suppose.JOSE, err = oidc.NewSigner(key)
		return err
	default:
		return fmt.Errorf("--suppose %s is %w: over OpenID Connect redirect, client-id, secret, clock and from (of the app) and key (of the provider) are known", key, ErrValue)
	}
	return nil
}
