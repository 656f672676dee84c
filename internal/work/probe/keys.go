package probe

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"net/url"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// tries signs the passive request of an own app with its other keys, the announced one and the outgoing one, and says
// of each whether the provider takes it. A request of a key that nobody knows tells whether it looks at signatures at
// all: where that is answered as the app's own is, nothing can be told. Nobody signs in by it.
func (o *overSAML) tries(ctx context.Context, j *job, sso saml.Endpoint, acs string,
	toApp func(*url.URL, url.Values) bool, own reply) {
	if !o.terms.SignsRequests || !j.app.Own {
		return
	}
	list, err := j.p.View.Keys(j.app.Name)
	if err != nil {
		return
	}
	asked := func(s *xmlsec.Signer) (reply, bool) {
		q, err := o.request(j, sso, j.app.Entity.ID, acs, s)
		if err != nil {
			return unclear, false
		}
		a, led, _, err := j.follow(ctx, j.provider, q, toApp)
		return replyOf(a, led != nil), err == nil
	}
	judges := false // whether it looks at signatures
	var wrong reply
	for i := range list {
		k := &list[i]
		if k.Use != federation.ForSigning || k.Place != federation.Announced && k.Place != federation.Outgoing {
			continue
		}
		if j.out.taken == nil {
			stranger, err := o.stranger(j)
			if err != nil {
				return
			}
			var ok bool
			wrong, ok = asked(stranger)
			judges, j.out.taken = ok && wrong != own, map[string]bool{}
		}
		check := "whether " + j.provider.Name + " takes the " + k.Place + " key " + k.ID + " of " + j.app.Name
		private, err := j.p.PrivateKey(j.app.Name, k)
		if err != nil {
			j.skip(check, "it cannot be opened: "+err.Error())
			continue
		}
		got, ok := asked(&xmlsec.Signer{Key: private, Certificate: k.Certificate, Rand: j.p.Rand})
		switch {
		case judges && ok && got == own:
			j.out.taken[k.ID] = true
			j.pass(finding.ProbeKey, check,
				"takes it: a request signed with it is answered as one with the active key, "+
					"and one signed with a key that nobody knows is not")
		case judges && ok && got == wrong:
			j.out.taken[k.ID] = false
			f := finding.Finding{ID: finding.ProbeKey, Level: finding.Warning, Check: check, Of: k.ID,
				Saw:      "does not: a request signed with it is answered as one with a key that nobody knows",
				Expected: "the answer that the active key gets", Side: finding.Provider,
				Fix: finding.Run("handoff", j.t.Name, "--for", "provider").
					Then(finding.Run("handoff", j.t.Name, "--for", "provider", "--delivered",
						j.provider.ContactOrBlank()))}
			if k.Place == federation.Outgoing {
				f.Level, f.Expected = finding.Note, "no more than that: it is no longer used"
				f.Fix = finding.Do("withdraw it when its time has come").Then(finding.Run("key", "plan", j.app.Name))
			}
			j.add(f)
		default:
			j.add(finding.Finding{ID: finding.ProbeKey, Level: finding.Note, Check: check, Of: k.ID,
				Saw:      "cannot tell: a request signed with a key that nobody knows gets the same answer",
				Expected: "an answer that depends on who signed", Side: finding.Provider,
				Fix: finding.Do("ask its owner whether it has the key")})
		}
	}
}

// stranger is a key that nobody knows, of the kind of the app's own.
func (o *overSAML) stranger(j *job) (*xmlsec.Signer, error) {
	kind := "rsa-2048"
	if s, err := j.p.SignerOf(j.app); err == nil {
		if k, ok := s.Key.Public().(*ecdsa.PublicKey); ok {
			kind = map[bool]string{true: "ecdsa-p384", false: "ecdsa-p256"}[k.Curve == elliptic.P384()]
		}
	}
	key, err := keys.Generate(j.p.Rand, kind)
	if err != nil {
		return nil, err
	}
	cert, err := keys.SelfSign(j.p.Rand, key, "nobody", "", j.p.Now(), time.Hour)
	return &xmlsec.Signer{Key: key, Certificate: cert, Rand: j.p.Rand}, err
}
