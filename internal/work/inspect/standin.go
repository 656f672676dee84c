package inspect

import (
	"crypto"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
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
		f.Saw = "made with the key with which a stand-in plays " + p.Name + " on the stage"
		f.Expected = "a message of the real " + p.Name
		f.Side, f.Fix = finding.Sender, finding.Do("nothing is wrong at "+p.Name+
			": this message was made in a rehearsal or on the "+
			"stage; capture one of the real "+p.Name)
	}
}
