package desk

import (
	"crypto/x509"
	"encoding/json"
	"fmt"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
)

// settingSecretFile and settingStage are the settings in which it is kept what was given once.
const (
	settingSecretFile = "secret-file " // and the trust
	settingStage      = "stage"
	settingCharter    = "charter"
)

// SecretFile is the file in which the secret of a trust's client lies, as it was given once; "" where none was. The
// secret itself is not in the ledger.
func (d *Desk) SecretFile(trust string) (string, error) { return d.Value(settingSecretFile + trust) }

// KeepSecretFile keeps where the secret of a trust's client lies, for each command that needs it. Errors:
// *UnknownError.
func (d *Desk) KeepSecretFile(trust, path string) error {
	if _, _, _, err := d.Trust(trust); err != nil {
		return err
	}
	return d.keepValue(settingSecretFile+trust, path)
}

func (d *Desk) keepValue(name, value string) error {
	if was, err := d.Value(name); err != nil || was == value {
		return err
	}
	return d.Change(func(tx *model.Edit) error { return tx.SetValue(name, value) })
}

// StagePlace is where the stage of a ledger is served: what was given once, for each command that opens one.
type StagePlace struct {
	Port int    `json:"port,omitempty"`
	Cert string `json:"certificate,omitempty"` // file, PEM
	Key  string `json:"key,omitempty"`         // file, PEM
}

// StagePlace is where the stage was served last; the zero value where nothing was said of it.
func (d *Desk) StagePlace() (p StagePlace, err error) {
	v, err := d.Value(settingStage)
	if err != nil || v == "" {
		return p, err
	}
	if err := json.Unmarshal([]byte(v), &p); err != nil {
		return p, fmt.Errorf("where the stage was served last cannot be read: %w", err)
	}
	return p, nil
}

// KeepStagePlace keeps where the stage is served.
func (d *Desk) KeepStagePlace(p StagePlace) error {
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return d.keepValue(settingStage, string(b))
}

// KnowAuthorities adds authorities, PEM, to those by which the servers of the parties of a trust are known, own ones as
// well: what they publish is read too. It returns whose they are now that did not have them. Nothing else of a party
// changes by it.
func (d *Desk) KnowAuthorities(trust string, pem []byte) (of []string, err error) {
	_, app, provider, err := d.Trust(trust)
	if err != nil || len(pem) == 0 {
		return nil, err
	}
	if !x509.NewCertPool().AppendCertsFromPEM(pem) { // kept, it would be in the way of every fetch
		return nil, finding.Errorf("%s: the file holds no certificate in PEM; give that of the authority",
			finding.FieldCA)
	}
	for _, side := range []*federation.Party{provider, app} {
		p, err := d.Party(side.Kind, side.Name) // as it stands, not as it is registered with this trust
		if err != nil {
			return nil, err
		}
		if strings.Contains(p.TLS.CA, string(pem)) || p.OpenID != nil && strings.Contains(p.OpenID.TLS.CA,
			string(pem)) {
			continue
		}
		now := *p
		now.TLS.CA = strings.TrimLeft(now.TLS.CA+"\n"+string(pem), "\n")
		if err := d.Change(func(tx *model.Edit) error { return tx.PutParty(p, &now, nil, true) }); err != nil {
			return nil, err
		}
		of = append(of, p.Name)
	}
	return of, nil
}

// CharterPlace is where the charter lies that was enacted last, and the values that it was enacted with: paths of
// files.
type CharterPlace struct {
	File   string `json:"file"`
	Values string `json:"values,omitempty"`
}

// CharterPlace is where the charter of this ledger lies; the zero value where none was enacted.
func (d *Desk) CharterPlace() (p CharterPlace, err error) {
	v, err := d.Value(settingCharter)
	if err != nil || v == "" {
		return p, err
	}
	if err := json.Unmarshal([]byte(v), &p); err != nil {
		return p, fmt.Errorf("where the charter lies cannot be read: %w", err)
	}
	return p, nil
}

// KeepCharterPlace keeps where the charter lies that was enacted.
func (d *Desk) KeepCharterPlace(p CharterPlace) error {
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return d.keepValue(settingCharter, string(b))
}
