package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/desk"
	"tressik.example/internal/inspect"
	"tressik.example/internal/reach"
	"tressik.example/internal/report"
	"tressik.example/internal/view"
)

func (a *App) inspectCmd() *cobra.Command {
	var in inspect.Input
	var at, key string
	c := &cobra.Command{Use: "inspect FILE|-",
		Short: "Explain a message, metadata, certificate, key or token; judge a message with --trust", Args: args("FILE"),
		Long: `Recognise and explain what is given: SAML metadata; a SAML message as XML, base64, URL-encoded, a whole
captured URL or a form body; a certificate; a private key, without showing it; a JSON Web Key, JWKS or
JWT, with what its claims mean and may do; a discovery document; an OAuth authorization request or response as
a captured URL. With --trust a SAML message, an ID token, an access token, or such a request or response is
judged as the receiving side of that trust would judge it. What is refused ends with exit status 3.`,
		Example: `  tressik inspect captured.txt
  tressik inspect captured.txt --trust nightlog@ridge --at 2031-03-04T09:00:10Z
  tressik inspect courier.jwt --trust frame-courier@ridge`,
		RunE: func(cmd *cobra.Command, got []string) error {
			var err error
			if in.At, err = moment("--at", at); err != nil {
				return err
			}
			if in.Key, err = a.readFile("--key", key); err != nil {
				return err
			}
			if in.Raw, err = reach.Read(cmd.Context(), got[0], reach.Options{Max: int64(xmlsec.MetadataLimits().Bytes),
				Stdin: a.In}); err != nil {
				return err
			}
			var d *desk.Desk
			if in.Trust != "" {
				if d, err = a.desk(); err != nil {
					return err
				}
			} else if d, err = a.desk(); err != nil { // a ledger helps to find a token's key, and is not needed
				now, err := a.now()
				if err != nil {
					return err
				}
				d = desk.New(nil, now, nil)
			}
			v, err := inspect.New(d.Book).Inspect(in)
			if err != nil {
				return fmt.Errorf("%s: %w", got[0], err)
			}
			if err := a.print(view.Page{Data: v, Blocks: report.Inspection(v)}); err != nil {
				return err
			}
			if v.Verdict == judge.Refused {
				return ErrFound
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&in.Trust, "trust", "", "judge the message as this trust's receiving side would")
	f.StringVar(&at, "at", "", "judge as of this time: 2031-03-04T09:00:00Z")
	f.StringVar(&in.Request, "request", "", "ID of the request that was sent")
	f.StringVar(&key, "key", "", "file with the app's private key, for encrypted assertions")
	must(c.RegisterFlagCompletionFunc("trust", a.names("trust", 0)))
	return c
}
