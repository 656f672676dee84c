package command

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/face/format"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/play"
)

func (a *App) tokenCmd() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Get access tokens for scripts"}
	c.AddCommand(a.tokenGet())
	return c
}

func (a *App) tokenGet() *cobra.Command {
	var in play.TokenInput
	var secretFile, key, ca, out, cert, proof string
	c := &cobra.Command{Use: "get TRUST", Short: "Get an access token for a machine client, for use in a script",
		Args: args("TRUST"),
		Long: `Get an access token for a client that acts as itself, and print it alone. It authenticates with its
secret, from a file, from standard input or from TRESSIK_CLIENT_SECRET, or with its private key; never from an
argument, which others on the machine can read. So it fits into a script:

  curl -H "Authorization: Bearer $(tressik token get frame-courier@ridge --secret-file courier.secret)" URL

A token that is bound to a key needs that key in each call as well: give --dpop-key, or --cert with --key.
An own provider issues the token out of the ledger, with its current key,
or on the running stage that --stage-at names. A foreign one is asked at its token endpoint.`,
		Example: `  tressik token get frame-courier@ridge --secret-file courier.secret
  tressik token get frame-courier@ridge --secret-file courier.secret --scope frames.read --out frames.jwt`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			in.Trust = got[0]
			var err error
			switch {
			case secretFile != "" && key != "":
				return usageError{errors.New("--secret-file and --key exclude each other: the client authenticates " +
					"in one way")}
			case secretFile != "":
				if in.Secret, err = a.secretFrom(secretFile); err != nil {
					return err
				}
			case key == "":
				in.Secret = a.Env("TRESSIK_CLIENT_SECRET")
			}
			if in.Key, err = a.readFile("--key", key); err != nil {
				return err
			}
			if in.Cert, err = a.readFile("--cert", cert); err != nil {
				return err
			}
			if cert != "" && key == "" {
				return usageError{errors.New("--cert needs --key: the private key of the certificate")}
			}
			if in.ProofKey, err = a.readFile("--dpop-key", proof); err != nil {
				return err
			}
			if in.CA, err = a.readFile("--ca", ca); err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			t, err := a.player(d).Token(cmd.Context(), in)
			if errors.Is(err, play.ErrAuth) {
				return usageError{err}
			}
			if err != nil {
				return err
			}
			w, err := a.newSecretFile(out)
			if err != nil {
				return err
			}
			if out != "" {
				if err := w.keep(t.AccessToken); err != nil {
					return err
				}
				a.say("wrote %s (only you can read it)", out)
				if a.format == "table" {
					return nil
				}
				t.AccessToken = ""
			}
			if a.format != "table" {
				return a.print(format.Page{Data: t,
					Blocks: []format.Block{{Fields: [][2]string{{"access_token", t.AccessToken},
						{"token_type", t.TokenType}, {"scope", t.Scope}}}}})
			}
			if t.Expires != nil {
				a.say("scope %s; expires %s", t.Scope, format.When(*t.Expires, d.Now()))
			}
			_, err = fmt.Fprintln(a.Out, t.AccessToken)
			return err
		}}
	writes(c, outSecret)
	f := c.Flags()
	f.StringVar(&secretFile, "secret-file", "", "file with the client's secret, or - for standard input")
	f.StringVar(&key, "key", "", "file with the client's private key (PEM), for private_key_jwt")
	f.StringVar(&cert, "cert", "",
		"file with the certificate of --key (PEM), with which the client connects (mutual TLS)")
	f.StringVar(&proof, "dpop-key", "",
		"file with the private key (PEM) that makes DPoP proofs: the token is bound to it, and calls need it too")
	f.BoolVar(&in.InBody, "in-body", false, "send the secret in the body (client_secret_post), not in the header")
	f.StringVar(&in.Scope, "scope", "", "scopes to ask for; else all that the trust asks for as itself")
	f.StringVar(&in.Resource, "resource", "", "audience of the API that the token is for, where there are several")
	f.StringVar(&in.Stage, "stage-at", "", "address of a running stage, such as http://127.0.0.1:8321")
	f.StringVar(&ca, "ca", "", "foreign: certificate file of the authority to trust")
	f.StringVar(&in.Pin, "tls-pin", "",
		"foreign: SHA-256 of the server's own certificate, in place of an authority or with --ca")
	f.StringVar(&out, "out", "", "file to write the token into; it must not be there yet")
	return c
}

// secretFrom reads a secret from a file or from standard input.
func (a *App) secretFrom(path string) (string, error) {
	var b []byte
	var err error
	if path == "-" {
		b, err = io.ReadAll(io.LimitReader(a.In, 64<<10))
	} else {
		b, err = a.readFile("--secret-file", path)
	}
	if err != nil {
		return "", err
	}
	s := strings.TrimSpace(string(b))
	if s == "" || strings.ContainsAny(s, "\r\n") {
		return "", fmt.Errorf("--secret-file: %s holds no secret: it must be one line", path)
	}
	return s, nil
}

// holderFrom reads the keys of a client at a real provider; nil where none are given.
func (a *App) holderFrom(key, cert string) (*cast.Holder, error) {
	if key == "" && cert == "" {
		return nil, nil
	}
	k, err := a.readFile("--key", key)
	if err != nil {
		return nil, err
	}
	c, err := a.readFile("--cert", cert)
	if err != nil {
		return nil, err
	}
	if key == "" {
		return nil, usageError{errors.New("--cert needs --key: the private key of the certificate")}
	}
	return play.HolderFrom(k, c)
}
