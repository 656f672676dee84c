package oauth

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
)

// RequestExpect is what the authorization endpoint knows when it judges a request.
type RequestExpect struct {
	Doc    *oidc.Discovery
	SentTo string     // where the request was sent; "" is not judged
	Keys   []oidc.Key // the provider's, for id_token_hint; none: not judged
	From   netip.Addr // where the browser is; not valid: not judged
	Now    time.Time
}

// AuthorizationJudgement is the outcome of judging an authorization request.
type AuthorizationJudgement struct {
	judge.Judgement
	Request *Authorization // what was asked; never nil
	Hinted  string         // subject of id_token_hint
	Error   *oidc.Error    // what is sent back; nil where the request is accepted, or where nothing may be sent back
	Answer  bool           // client and redirect URI are good, so that an answer may be sent there
	Why     string         // where nothing may be sent back: what a person is told
}

// JudgeAuthorization judges an authorization request of a client as the authorization endpoint does (RFC 6749, section
// 4.1.1;
// OpenID Connect Core, section 3.1.2.2). Where client ID or redirect URI are wrong nothing may be sent back, and all
// else is judged all the same.
func JudgeAuthorization(q url.Values, r *Registered, e RequestExpect) *AuthorizationJudgement {
	j := &AuthorizationJudgement{Judgement: judge.Judgement{Kind: "authorization request"}, Answer: true}
	if e.SentTo != "" && e.SentTo != e.Doc.AuthorizationEndpoint {
		j.Findings.Add(finding.Finding{ID: finding.OAuthEndpoint, Level: finding.Warning,
			Check: "authorization endpoint",
			Saw:   near.Told(e.SentTo, e.Doc.AuthorizationEndpoint), Expected: e.Doc.AuthorizationEndpoint,
			Side: finding.App,
			Fix:  finding.Do("set it as the discovery document has it, unless it was captured at the stage"),
			Ref:  "RFC 8414 2"})
	}
	j.client(q, r)
	q, told, object := ReadObject(q, r, e)
	j.Findings = append(j.Findings, told...)
	j.redirect(q, r)
	once := oidc.OnceEach(q)
	q = oidc.Present(q)
	switch j.Request, j.Error = readAuthorization(q, r); {
	case object != nil:
		j.Error = object
		if !j.Answer {
			j.Why = object.Description
		}
	case once != nil:
		j.Error = once
	}
	if j.Error == nil && r.Terms.Policy.Hardened() {
		j.Error = hardened(j.Request, r)
	}
	if j.Error == nil {
		j.hint(q, r, e)
	}
	if j.Error == nil {
		j.network(r, e)
	}
	if j.Error != nil {
		j.Findings.Add(refusal("authorization request", j.Error, finding.Do("change the request of the app"),
			"RFC 6749 4.1.1"))
	} else {
		how := "code flow with PKCE S256"
		if j.Request.Challenge == "" {
			how = "code flow without PKCE"
			j.Findings.Add(finding.Finding{ID: finding.OAuthPKCEOff, Level: finding.Warning, Check: "PKCE",
				Saw: "none: the trust lets this client do without", Expected: "code_challenge with S256",
				Side: finding.App,
				Fix: finding.Do("have the app send PKCE").Then(finding.Run("trust", "change", r.Trust.Name,
					"--pkce", "on")),
				Ref: "RFC 9700 2.1.1"})
		}
		j.Findings.Pass(finding.OAuthRequest, "authorization request", how+", scope "+r.Words(j.Request.Asks))
		j.advise(r)
	}
	j.Settle()
	return j
}

// hardened judges what a profile asks of a request besides (FAPI 2.0 Security Profile, section 5.3.2.2).
func hardened(a *Authorization, r *Registered) *oidc.Error {
	if !strings.HasPrefix(a.Redirect, "https://") {
		return oidc.Fail(oidc.InvalidRequest, "profile "+r.Terms.Policy.Profile+" of "+r.Trust.Name+
			": the redirect URI must be an https: one")
	}
	if len(a.Nonce) > 64 {
		return oidc.Fail(oidc.InvalidRequest, "profile "+r.Terms.Policy.Profile+" of "+r.Trust.Name+
			": the nonce is longer than 64 characters")
	}
	return nil
}

func (j *AuthorizationJudgement) client(q url.Values, r *Registered) {
	id, want := q.Get("client_id"), r.Terms.ClientID
	saw := near.Told(id, want)
	fix := finding.Do("set the client ID that the provider issued").Then(finding.Run("handoff", r.Trust.Name, "--for",
		"app"))
	switch list := q["client_id"]; {
	case len(list) > 1:
		j.Answer, j.Why = false, "client_id comes more than once"
		saw, fix = fmt.Sprintf("%d times: %s", len(list), strings.Join(list, ", ")), finding.Do("send client_id once")
	case id != want:
		j.Answer, j.Why = false, "the client ID is another than "+want
	default:
		j.Findings.Pass(finding.OAuthClientID, "client ID", id)
		return
	}
	j.Findings.Add(finding.Finding{ID: finding.OAuthClientID, Level: finding.Error, Check: "client ID",
		Saw: saw, Expected: want, Side: finding.App, Fix: fix, Ref: "RFC 6749 4.1.1"})
}

func (j *AuthorizationJudgement) redirect(q url.Values, r *Registered) {
	list, c := q["redirect_uri"], r.Client
	if len(list) == 1 && oidc.MatchRedirect(c.Kind, c.Redirects, list[0]) {
		j.Findings.Pass(finding.OAuthRedirect, "redirect URI", list[0])
		return
	}
	why, saw := "it is missing", strings.Join(list, ", ")
	if len(list) > 1 {
		why = "it comes more than once"
	}
	fix := finding.Do("send it exactly as it is registered; " + why)
	if len(list) == 1 {
		why = oidc.ExplainRedirect(c.Redirects, list[0])
		fix = finding.Do("send it exactly as it is registered; " + why).Or(finding.Run("app", "change", r.App.Name,
			"--add-redirect", list[0]))
	}
	if saw == "" {
		saw = "none"
	}
	if j.Answer {
		j.Why = why
	}
	j.Answer = false
	j.Findings.Add(finding.Finding{ID: finding.OAuthRedirect, Level: finding.Error, Check: "redirect URI", Saw: saw,
		Expected: strings.Join(c.Redirects, " or "), Side: finding.App, Fix: fix, Ref: "RFC 9700 2.1"})
}

func (j *AuthorizationJudgement) hint(q url.Values, r *Registered, e RequestExpect) {
	h := q.Get("id_token_hint")
	switch {
	case h == "":
	case e.Keys == nil:
		j.NotChecked = append(j.NotChecked, "whom id_token_hint is about")
	default:
		t := oidc.JudgeIDToken(h, oidc.Expect{Issuer: e.Doc.Issuer, Audience: r.Terms.ClientID, Keys: e.Keys,
			Now: e.Now})
		if t.Body == nil || !t.IDToken() {
			j.Error = oidc.Fail(oidc.InvalidRequest, "id_token_hint is no ID token of this provider")
		}
		j.Hinted = t.Subject
	}
}

func (j *AuthorizationJudgement) network(r *Registered, e RequestExpect) {
	nets := r.Terms.Policy.SignInFrom
	switch {
	case len(nets) == 0:
	case !e.From.IsValid():
		j.NotChecked = append(j.NotChecked, "from which network the browser came")
	default:
		j.Error = fromNetwork(r, e.From)
	}
}

// fromNetwork refuses a sign-in from a network from which nobody may sign in through the trust; an address that is not
// known is not judged.
func fromNetwork(r *Registered, from netip.Addr) *oidc.Error {
	nets := r.Terms.Policy.SignInFrom
	if len(nets) == 0 || !from.IsValid() || federation.FromNetwork(nets, from) {
		return nil
	}
	return oidc.Fail(oidc.AccessDenied, "policy sign-in-from of "+r.Trust.Name+": "+from.String()+
		" is in none of the networks "+strings.Join(nets, ", "))
}

// advise warns of what does not refuse the request and is better otherwise.
func (j *AuthorizationJudgement) advise(r *Registered) {
	if j.Request.State == "" {
		j.Findings.Add(finding.Finding{ID: finding.OAuthState, Level: finding.Warning, Check: "state", Saw: "none",
			Expected: "a random value for each request", Side: finding.App,
			Fix: finding.Do("send one, and compare it with that of the answer"), Ref: "RFC 6749 10.12"})
	}
	for _, a := range j.Request.Asks {
		if r.NeedsAdmin(a) && !r.Granted(a, "") {
			j.Findings.Add(finding.Finding{ID: finding.ConsentWaiting, Level: finding.Warning,
				Check: "permission " + a.Label(),
				Saw:   "no consent for everyone", Expected: "an administrator's consent", Side: finding.Ledger,
				Fix: r.Provider.Agree(r.Trust.Name, a.Label())})
		}
	}
}

// AnswerExpect is what a client knows when it judges an authorization response.
type AnswerExpect struct {
	Doc       *oidc.Discovery
	SentTo    string // the redirect URI at which the answer came; "" is not judged
	StateGood bool   // the state is the one of this browser's request
	StateSeen bool   // the client knows what it sent; else the state is not judged
}

// JudgeAnswer judges an authorization response as the client that receives it (RFC 6749, section 4.1.2; RFC 9207,
// section 2.4).
func JudgeAnswer(q url.Values, r *Registered, e AnswerExpect) *judge.Judgement {
	j := &judge.Judgement{Kind: "authorization response"}
	c := r.Client
	switch {
	case e.SentTo == "":
	case oidc.MatchRedirect(c.Kind, c.Redirects, e.SentTo):
		j.Findings.Pass(finding.OAuthRedirect, "redirect URI", e.SentTo)
	default:
		j.Findings.Add(finding.Finding{ID: finding.OAuthRedirect, Level: finding.Error, Check: "redirect URI",
			Saw: e.SentTo, Expected: strings.Join(c.Redirects, " or "), Side: finding.App,
			Fix: finding.Do(oidc.ExplainRedirect(c.Redirects, e.SentTo)), Ref: "RFC 9700 2.1"})
	}
	switch {
	case !e.StateSeen:
		j.NotChecked = append(j.NotChecked, "whether the state is the one that the client sent")
	case e.StateGood:
		j.Findings.Pass(finding.OAuthState, "state", "the one that this browser was sent away with")
	default:
		j.Findings.Add(finding.Finding{ID: finding.OAuthState, Level: finding.Error, Check: "state",
			Saw:      "one that this browser did not send",
			Expected: "that of the request", Side: finding.Sender,
			Fix: finding.Do("start the sign-in at the app again"),
			Ref: "RFC 6749 10.12"})
	}
	judgeIssuer(&j.Findings, q.Get("iss"), e.Doc)
	saw := "none"
	for _, name := range []string{"code", "error", "iss", "state"} {
		if n := len(q[name]); n > 1 {
			saw = fmt.Sprintf("%s, %d times", name, n)
		}
	}
	if q.Has("access_token") || q.Has("id_token") {
		saw = "tokens in the address"
	}
	if code := q.Get("error"); saw != "none" || code == "" && q.Get("code") == "" {
		j.Findings.Add(finding.Finding{ID: finding.OAuthCode, Level: finding.Error, Check: "code", Saw: saw,
			Expected: "one code and nothing twice, or an error", Side: finding.Provider,
			Fix: finding.Do("ask the provider's owner what it answers to response_type=code"), Ref: "RFC 6749 4.1.2"})
	} else if code != "" {
		saw := code
		if s := q.Get("error_description"); s != "" {
			saw += ": " + s
		}
		side, fix := errorRemedy(code, r.Trust.Name, r.Provider)
		if r.Far {
			side, fix = finding.Provider, r.Remedy(oidc.Fail(code, ""))
		}
		f := finding.Finding{ID: finding.OAuthFamily.With(oidc.Plain(code)), Level: finding.Error,
			Check: "answer of the provider", Saw: saw,
			Expected: "a code", Side: side, Fix: fix, Ref: "RFC 6749 4.1.2.1"}
		if code == oidc.AccessDenied {
			var why string
			f.ID, why, f.Fix = denied(q.Get("error_description"), r)
			f.Saw += " (" + why + ")"
			if f.Side = finding.Provider; f.ID == finding.OAuthCancelled {
				f.Side = finding.Person
			}
		}
		j.Findings.Add(f)
	} else {
		j.Findings.Pass(finding.OAuthCode, "code",
			"there; it is redeemed once, within a minute, with the verifier of the request")
		j.NotChecked = append(j.NotChecked, "whether the provider issued the code")
	}
	j.Settle()
	return j
}

func judgeIssuer(out *finding.List, iss string, doc *oidc.Discovery) {
	bad := func(saw, fix string) {
		out.Add(finding.Finding{ID: finding.OAuthIss, Level: finding.Error, Check: "issuer of the answer", Saw: saw,
			Expected: doc.Issuer,
			Side:     finding.Provider, Fix: finding.Do(fix), Ref: "RFC 9207 2.4"})
	}
	switch {
	case iss == doc.Issuer:
		out.Pass(finding.OAuthIss, "issuer of the answer", iss)
	case iss != "":
		bad(near.Told(iss, doc.Issuer), "the answer is from another provider; refuse it")
	case doc.IssInResponse:
		bad("none", "the provider promises iss in its discovery document; refuse an answer without it")
	}
}

// errorRemedy says who must change what for an error of the authorization endpoint to go away; denied says it of
// access_denied.
func errorRemedy(code, trust string, provider *federation.Party) (finding.Side, finding.Remedy) {
	switch code {
	case oidc.InvalidScope, oidc.InvalidTarget:
		return finding.App, finding.Do("ask only for what is registered").Then(finding.Run("permission", "list",
			"--trust", trust))
	case oidc.LoginRequired:
		return finding.App,
			finding.Do("nobody was signed in and prompt=none shows no page: send the request again without prompt")
	case oidc.ConsentRequired:
		return finding.Ledger, provider.Agree(trust, "").
			Or(finding.Do("send the request without prompt=none so that the person is asked"))
	case oidc.UnauthorizedClient, oidc.UnsupportedResponseType, oidc.InvalidRequest:
		return finding.App, finding.Do("correct the request").Then(finding.Run("inspect", "FILE", "--trust", trust))
	}
	return finding.Provider, finding.Do("ask the provider's owner with the time and the state of the request")
}
