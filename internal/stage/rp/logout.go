package rp

import (
	"net/http"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/server"
)

// layOutLogout lays out where a played client learns of a sign-out.
func (p *Part) layOutLogout(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	if at := pl.Client.BackChannelLogout; at != "" {
		l.Share(at, p.backChannel(c, pl))
	}
	if at := pl.Client.FrontChannelLogout; at != "" {
		l.Share(at, p.frontChannel(c, pl))
	}
}

// backChannel takes logout tokens of providers (OpenID Connect Back-Channel Logout, sections 2.5 to 2.8).
func (p *Part) backChannel(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		refuse := func(why string) {
			op.WriteJSON(w, http.StatusBadRequest, oidc.Fail(oidc.InvalidRequest, why))
		}
		if r.Method != http.MethodPost || r.ParseForm() != nil {
			refuse("a logout token comes by POST")
			return
		}
		token := r.PostForm.Get("logout_token")
		_, claims, err := oidc.Peek(token)
		if err != nil || oidc.OnceEach(r.PostForm) != nil {
			refuse("logout_token is missing, or no token")
			return
		}
		d := dealOf(c, pl, oidc.Text(claims, "iss"))
		if d == nil {
			refuse("the logout token is of a provider that this client does not know")
			return
		}
		published, err := d.Deal.Provider.Published()
		if err != nil {
			refuse(err.Error())
			return
		}
		j := oidc.JudgeLogoutToken(token,
			federation.TokenExpectation(d.Of(), d.Terms, nil, nil, d.Deal.Provider.OpenID.Issuer,
				d.Deal.Provider.Name(), published, p.Now().Add(d.Suppose.Clock)),
			func(jti string) bool { return !p.seen.Once(pl.Name()+" "+jti, true) })
		p.Tell(server.Event{Trust: d.Of().Name, By: pl.Name(), What: "logout token", Findings: j.Findings})
		if j.Verdict != judge.Accepted {
			why := "it is refused"
			for _, f := range j.Findings {
				if f.Level == finding.Error {
					why = f.Check + ": " + f.Saw
				}
			}
			refuse(why)
			return
		}
		p.forget(d, oidc.Text(j.Body, "sid"), j.Subject)
		op.NoStore(w)
		w.WriteHeader(http.StatusOK)
	}
}

// frontChannel signs out in a frame of the browser (OpenID Connect Front-Channel Logout, section 2).
func (p *Part) frontChannel(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if d := dealOf(c, pl, q.Get("iss")); d != nil && q.Get("sid") != "" {
			p.forget(d, q.Get("sid"), "")
		}
		h := w.Header()
		h.Set("Cache-Control", "no-store")
		h.Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = w.Write([]byte("signed out\n")) // the browser went away
	}
}

// dealOf finds the trust of a client with the provider of an issuer; nil if there is none.
func dealOf(c *cast.Cast, pl *cast.Player, issuer string) *cast.OIDC {
	for _, d := range c.OIDCOf(pl) {
		if d.Deal.Provider.OpenID.Issuer == issuer {
			return d
		}
	}
	return nil
}

// forget takes away the guests of a trust in a session, or of a subject where no session is named.
func (p *Part) forget(d *cast.OIDC, session, subject string) {
	name := d.Of().Name
	p.guests.Drop(func(g *guest) bool {
		return g.trust == name && (session != "" && g.sid == session ||
			session == "" && g.judged != nil && g.judged.Subject == subject)
	})
}
