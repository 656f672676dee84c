package op

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// visitor is a client that was told of a session, and under which subject.
type visitor struct{ trust, subject string }

// visited remembers that a client was told of a session.
func (p *Part) visited(session string, v visitor) {
	p.mu.Lock()
	defer p.mu.Unlock()
	list, _ := p.visitors.Get(session)
	list = slices.DeleteFunc(slices.Clone(list), func(o visitor) bool { return o.trust == v.trust })
	p.visitors.Put(session, append(list, v))
}

// notify tells the clients of a session that it ended: from server to server at once (OpenID Connect Back-Channel
// Logout, section 2.5). It returns the addresses that the browser has to open in frames (Front-Channel Logout,
// section 3).
func (x *played) notify(session string, concerned func(trust string) bool) (frames []string) {
	list, _ := x.visitors.Get(session)
	for _, v := range list {
		d := x.c.Find(v.trust)
		if d == nil || !concerned(v.trust) {
			continue
		}
		if at := d.Client.FrontChannelLogout; at != "" {
			frames = append(frames, oidc.FrontChannelLogout(at, x.pl.OpenID.Issuer, session))
		}
		if at := d.Client.BackChannelLogout; at != "" {
			x.backChannel(d, at, v.subject, session)
		}
	}
	return frames
}

// backChannel sends a logout token to a client. To one on this stage it is sent in this very process, to an app under
// test on this machine over HTTP; nothing is sent to any other address.
func (x *played) backChannel(d *cast.OIDC, at, subject, session string) {
	said := func(level finding.Level, saw, fix string) {
		x.tell(d, "back-channel logout", finding.Finding{ID: finding.LogoutBackChannel, Level: level,
			Check: "back-channel logout",
			Saw:   saw, Expected: "200 from " + at, Side: finding.App, Fix: finding.Do(fix),
			Ref: "OpenID Connect Back-Channel Logout 2.8"})
	}
	s, err := x.Serves(x.pl, d)
	var token string
	if err == nil {
		signer, _ := s.Signers.ForID(d.Client.IDTokenAlg)
		token, err = signer.Sign("logout+jwt", oidc.LogoutClaims(s.Doc.Issuer, d.Terms.ClientID, subject, session,
			x.Random(), x.Now()))
	}
	u, err2 := url.Parse(at)
	if err != nil || err2 != nil {
		said(finding.Error, fmt.Sprintf("no token can be sent: %v %v", err, err2), "correct the URI")
		return
	}
	client := &http.Client{Timeout: 3 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	switch {
	case x.Plays(u) && (x.c.Base == "" || strings.HasPrefix(at, x.c.Base+"/")):
		client.Transport = x.Inside(func(*http.Request, int, []byte) (string, string) { return "a logout token", "" })
	case !judge.IsLoopback(u.Hostname()):
		said(finding.Note, "not sent: "+at+" is not on this machine", "try it with the real provider")
		return
	case x.Outside != nil:
		if client.Transport, err = x.Outside(&d.Deal.App.Party, nil); err != nil {
			said(finding.Error, err.Error(), "see to the authorities of the app's server")
			return
		}
	}
	resp, err := client.PostForm(at, url.Values{"logout_token": {token}})
	if err != nil {
		said(finding.Error, reach.Unreached(err).Error(), "see that the app answers there")
		return
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusNoContent {
		said(finding.Error, "status "+resp.Status, "see in the app why it refused the logout token")
		return
	}
	var good finding.List
	good.Pass(finding.LogoutBackChannel, "back-channel logout", fmt.Sprintf("%s answered %d", at, resp.StatusCode))
	x.tell(d, "back-channel logout", good...)
}

// framed is the page that opens the sign-out addresses of clients in frames, and then leads back.
func framed(frames []string, title, back string) server.Page {
	p := server.Page{Title: "Signed out", By: title, Lead: "You are signed out, and the apps in this browser are told.",
		Frames: frames}
	if back != "" {
		p.Links = [][2]string{{"Back to the app", back}}
	}
	return p
}
