package inspect

import (
	"crypto"
	"net/url"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
)

// stageKeys are the public keys with which a party is played on stages; none where it never was.
func (d *Inspector) stageKeys(p *federation.Party) []crypto.PublicKey {
	var out []crypto.PublicKey
	for _, kind := range keys.Kinds() {
		if c, err := d.CertificateOnStage(p.Name, kind); err == nil {
			out = append(out, c.PublicKey)
		}
	}
	return out
}

// byStandIn looks, where a signature was made with another key than the party's, whether a stand-in made it. The
// finding then says so, and blames nobody: the real party has not sent the message. judged judges again with the keys
// of the stage.
func (d *Inspector) byStandIn(found finding.List, p *federation.Party,
	judged func(keys []crypto.PublicKey) finding.List) {
	made := []finding.ID{finding.SAMLSignatureKey, finding.RequestSignatureKey, finding.LogoutSignatureKey}
	for i := range found {
		f := &found[i]
		if f.Level != finding.Error || !slices.Contains(made, f.ID) {
			continue
		}
		keys := d.stageKeys(p)
		if len(keys) == 0 {
			return
		}
		for _, other := range judged(keys) {
			if other.Level == finding.Error && other.ID == f.ID {
				return
			}
		}
		ref := f.Ref
		*f = ofStage(f.ID, f.Check, p)
		f.Ref = ref
	}
}

// ofStage says that a message was made on a stage: it blames nobody.
func ofStage(id finding.ID, check string, p *federation.Party) finding.Finding {
	return finding.Finding{ID: id, Level: finding.Error, Check: check,
		Saw:      "made with the key with which a stand-in plays " + p.Name + " on the stage",
		Expected: "a message of the real " + p.Name, Side: finding.Sender,
		Fix: finding.Do("nothing is wrong at " + p.Name + ": this message was made in a rehearsal or on the stage; " +
			"capture one of the real " + p.Name)}
}

// staged are the keys with which a provider is played on stages, where one of them signed a token that a stage issued
// at an address of this machine, or in a rehearsal under the provider's own; nil where none did.
func (d *Inspector) staged(text, iss string, p *federation.Party) ([]oidc.Key, error) {
	u, err := url.Parse(iss)
	doc := p.OpenIDOf()
	if err != nil || doc == nil || iss != doc.Issuer && !judge.IsLoopback(u.Hostname()) {
		return nil, nil
	}
	list, err := keysOf(d.stageKeys(p))
	if err != nil || len(list) == 0 || oidc.Verify(text, list).Failed() {
		return nil, err
	}
	return list, nil
}

// stagedBy finds the provider that is played by whoever signed a token on a stage; nil where none is.
func (d *Inspector) stagedBy(text, iss string) (*federation.Party, error) {
	if !d.Known() {
		return nil, nil
	}
	all, err := d.View.Parties(federation.Provider)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if list, err := d.staged(text, iss, &all[i]); err != nil || list != nil {
			return &all[i], err
		}
	}
	return nil, nil
}
