package command

import (
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/registrar"
)

// registerFlags have federate register the client at a foreign provider.
type registerFlags struct {
	register, dry bool
	token, secret string
}

func (r *registerFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.BoolVar(&r.register, "register", false,
		"OpenID, at a foreign provider: register the client there by RFC 7591, and keep what it answers")
	f.StringVar(&r.token, "initial-access-token-file", "",
		"with --register: file with the token that lets register there")
	f.StringVar(&r.secret, "secret-out", "",
		"with --register: file for the client's secret, which must not be there yet")
	f.BoolVar(&r.dry, "dry-run", false, "with --register: show what would be sent, and send and keep nothing")
}

// registered registers an app at a foreign provider, and makes the trust with what it answers.
func (a *App) registered(d *desk.Desk, in *registerFlags, app, provider string, x desk.Terms) (*federation.Trust,
	finding.List, error) {
	k := &registrar.Keeper{Desk: d}
	at, err := k.Prepare(app, provider, x)
	if err != nil {
		return nil, nil, err
	}
	body, err := json.MarshalIndent(at.Meta, "", "  ")
	if err != nil {
		return nil, nil, err
	}
	if in.dry {
		return nil, nil, a.print(format.Page{Data: registration{at.Endpoint, at.Meta},
			Blocks: []format.Block{{Lines: []string{
				"This would be sent to " + at.Endpoint + "; nothing was sent or kept (--dry-run)."}}, {Lines: []string{
				string(body)}}}})
	}
	token := ""
	if in.token != "" {
		if token, err = readSecretFile("--initial-access-token-file", in.token); err != nil {
			return nil, nil, err
		}
	}
	w, err := a.newSecretFile(in.secret)
	if err != nil {
		return nil, nil, err
	}
	info, err := a.registry(http.MethodPost, at, token, body)
	if err != nil {
		w.discard()
		return nil, nil, err
	}
	var fs finding.List
	t, fs, err := changed2(a, d,
		func() (*federation.Trust, finding.List, error) { return k.Keep(app, provider, x, info) })
	if err == nil && info.ClientSecret != "" && in.secret != "" {
		if err = w.keep(info.ClientSecret); err == nil {
			err = a.change(d, func() error { return d.KeepSecretFile(t.Name, in.secret) })
		}
	} else {
		w.discard()
	}
	if err != nil { // nobody is to be left with a client that nobody knows
		at.Endpoint, at.Token = info.RegistrationURI, info.Token
		if undone := a.withdraw(at); undone != nil {
			return nil, nil, fmt.Errorf("%s: %w: %w; the client %s was registered there, and could not be taken away "+
				"again: %w", provider, ErrElsewhere, err, info.ClientID, undone)
		}
		return nil, nil, fmt.Errorf("%s: %w: %w; the client was taken away again there", provider, ErrElsewhere, err)
	}
	if info.ClientSecret != "" && in.secret == "" {
		a.note("the client's secret, shown this once: %s", info.ClientSecret)
	}
	at.Trust = t.Name
	return t, append(registrar.Drift(at, info), fs...), nil
}

// registration is what would be sent to register a client.
type registration struct {
	Endpoint string               `json:"endpoint"`
	Metadata *oidc.ClientMetadata `json:"metadata"`
}

// registry asks a registration endpoint, and reads what it answers.
func (a *App) registry(method string, at *registrar.Elsewhere, token string, body []byte) (*oidc.ClientInformation,
	error) {
	got, err := reach.Register(a.run, method, at.Endpoint, token, body, reach.Options{CA: []byte(at.TLS.CA),
		Pin: at.TLS.Pin, Max: 1 << 20})
	if err != nil {
		return nil, err
	}
	info, err := oidc.ReadClientInformation(got.Status, got.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", reach.Shown(at.Endpoint), err)
	}
	return info, nil
}

// withdraw takes a registration away where it is.
func (a *App) withdraw(at *registrar.Elsewhere) error {
	if at.Endpoint == "" || at.Token == "" {
		return fmt.Errorf("the provider named no address for that; ask its owner")
	}
	got, err := reach.Register(a.run, http.MethodDelete, at.Endpoint, at.Token, nil, reach.Options{
		CA: []byte(at.TLS.CA), Pin: at.TLS.Pin, Max: 1 << 20})
	if err != nil {
		return err
	}
	if got.Status != http.StatusNoContent && got.Status != http.StatusUnauthorized {
		return fmt.Errorf("%s: status %d", reach.Shown(at.Endpoint), got.Status)
	}
	return nil
}

func (a *App) trustRegistration() *cobra.Command {
	var write, remove bool
	c := &cobra.Command{Use: "registration TRUST", Short: "Compare what a foreign provider registered with the ledger",
		Args: args("TRUST"),
		Long: `Read back what a foreign provider registered of a client that federate --register registered there (RFC
7592), and name by field what differs from the ledger. --write registers it anew as the ledger has it, --remove takes it
away there. It ends with exit status 3 where something differs.`,
		Example: `  # it asks the provider, over the network:
  # tressik trust registration ridge@southmere
  # tressik trust registration ridge@southmere --write`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			k := &registrar.Keeper{Desk: d}
			at, err := k.Registered(got[0])
			if err != nil {
				return err
			}
			if remove {
				if err := a.confirm("Take the client of " + got[0] +
					" away at its provider? Nobody signs in through it then."); err != nil {
					return err
				}
				if err := a.withdraw(at); err != nil {
					return err
				}
				if err := a.change(d, func() error { return k.Gone(got[0]) }); err != nil {
					return err
				}
				return a.print(format.Page{Data: desk.Removed{Name: got[0]}, Blocks: []format.Block{{Lines: []string{
					"the client is taken away at the provider; end the trust with `tressik trust end " + got[0] +
						"`"}}}})
			}
			method, body := http.MethodGet, []byte(nil)
			if write {
				method = http.MethodPut
				if body, err = json.Marshal(at.Meta); err != nil {
					return err
				}
			}
			info, err := a.registry(method, at, at.Token, body)
			if err != nil {
				return err
			}
			if err := a.change(d, func() error { return k.Took(got[0], info) }); err != nil {
				return err
			}
			drift := registrar.Drift(at, info)
			info.ClientSecret, info.Token = "", ""
			page := layout.ClientInformation(info, false)
			page.Data = drifted{got[0], drift}
			page.Blocks = append(page.Blocks,
				format.Block{Title: "Compared with the ledger", Findings: drift, Passed: true})
			if err := a.print(page); err != nil {
				return err
			}
			if len(drift.Without(finding.Pass)) > 0 {
				return ErrFound
			}
			return nil
		})}
	c.Flags().BoolVar(&write, "write", false, "register it anew, as the ledger has it")
	c.Flags().BoolVar(&remove, "remove", false, "take it away at the provider")
	return c
}

// readBack reads what a foreign provider registered of a trust's client, and compares it with the ledger; nothing is
// found where it was not registered by the protocol.
func (a *App) readBack(d *desk.Desk, trust string) (finding.List, error) {
	k := &registrar.Keeper{Desk: d}
	at, err := k.Elsewhere(trust)
	if err != nil || at == nil {
		return nil, err
	}
	info, err := a.registry(http.MethodGet, at, at.Token, nil)
	if err != nil {
		return registrar.Unread(at, err), nil
	}
	return registrar.Drift(at, info), a.change(d, func() error { return k.Took(trust, info) })
}

// drifted is how what is registered elsewhere differs from what the ledger has.
type drifted struct {
	Trust    string       `json:"trust"`
	Findings finding.List `json:"findings"`
}

// describedBy reads an app's client side from client metadata, wherever that comes from (RFC 7591, section 2).
func (a *App) describedBy(in *desk.PartyInput, path string) error {
	if path == "" {
		return nil
	}
	b, err := reach.Read(a.run, path, reach.Options{Max: oidc.MaxRegistration + 1, Stdin: a.In})
	if err != nil {
		return err
	}
	m, err := oidc.ReadClientMetadata(b)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	in.Client = registrar.Described(m)
	if in.Title == "" {
		in.Title = m.ClientName
	}
	return nil
}
