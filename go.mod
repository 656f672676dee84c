module tressik.example

go 1.26.0

require (
	cel.dev/cel-go v0.33.2
	filippo.io/age v1.3.2
	github.com/ajstarks/svgo v0.0.0-20211024235047-1546f124cd8b
	github.com/beevik/etree v1.8.1
	github.com/emersion/go-ical v0.0.0-20250329121855-f41e73efc392
	github.com/go-jose/go-jose/v4 v4.1.9
	github.com/go-ldap/ldap/v3 v3.4.15
	github.com/goccy/go-yaml v1.19.2
	github.com/hbollon/go-edlib v1.7.0
	github.com/invopop/jsonschema v0.14.0
	github.com/jackc/pgx/v5 v5.13.0
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/joshdk/go-junit v1.0.0
	github.com/jstemmer/go-junit-report/v2 v2.1.0
	github.com/owenrumney/go-sarif/v3 v3.3.1
	github.com/pressly/goose/v3 v3.29.0
	github.com/prometheus/common v0.73.1
	github.com/russellhaering/goxmldsig v1.6.1
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/schollz/progressbar/v3 v3.19.1
	github.com/spf13/cobra v1.10.2
	github.com/youmark/pkcs8 v0.0.0-20240726163527-a2c0da244d78
	golang.org/x/net v0.62.0
	golang.org/x/oauth2 v0.37.0
	golang.org/x/term v0.47.0
	modernc.org/sqlite v1.62.0
	software.sslmate.com/src/go-pkcs12 v0.7.4
)

require (
	github.com/Azure/go-ntlmssp v0.1.1 // indirect
	github.com/bahlo/generic-list-go v0.2.0 // indirect
	github.com/buger/jsonparser v1.1.2 // indirect
	github.com/cpuguy83/go-md2man/v2 v2.0.6 // indirect
	github.com/go-asn1-ber/asn1-ber v1.5.8 // indirect
	github.com/jackc/pgpassfile v1.0.0 // indirect
	github.com/jackc/pgservicefile v0.0.0-20240606120523-5a60cdf6a761 // indirect
	github.com/jackc/puddle/v2 v2.2.3 // indirect
	github.com/mitchellh/colorstring v0.0.0-20190213212951-d06e56a500db // indirect
	github.com/munnerz/goautoneg v0.0.0-20191010083416-a7dc8b61c822 // indirect
	github.com/pandatix/go-abnf v0.5.3 // indirect
	github.com/pb33f/ordered-map/v2 v2.3.1 // indirect
	github.com/prometheus/client_model v0.6.3 // indirect
	github.com/russross/blackfriday/v2 v2.1.0 // indirect
	github.com/teambition/rrule-go v1.8.2 // indirect
	github.com/xeipuuv/gojsonpointer v0.0.0-20180127040702-4e3ac2762d5f // indirect
	github.com/xeipuuv/gojsonreference v0.0.0-20180127040603-bd5ef7bd5415 // indirect
	github.com/xeipuuv/gojsonschema v1.2.0 // indirect
	go.yaml.in/yaml/v4 v4.0.0-rc.2 // indirect
)

require (
	cel.dev/expr v0.25.1 // indirect
	filippo.io/hpke v0.4.0 // indirect
	github.com/antlr4-go/antlr/v4 v4.13.1 // indirect
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/jonboulle/clockwork v0.5.0 // indirect
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/mfridman/interpolate v0.0.2 // indirect
	github.com/ncruces/go-strftime v1.1.0 // indirect
	github.com/remyoudompheng/bigfft v0.0.0-20230129092748-24d4a6f8daec // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/sethvargo/go-retry v0.5.0 // indirect
	github.com/spf13/pflag v1.0.9
	go.uber.org/multierr v1.11.0 // indirect
	go.yaml.in/yaml/v3 v3.0.5
	golang.org/x/crypto v0.58.0 // indirect
	golang.org/x/exp v0.0.0-20261011100332-faecfb24eb49 // indirect
	golang.org/x/sync v0.24.0
	golang.org/x/sys v0.49.0
	golang.org/x/text v0.43.0 // indirect
	google.golang.org/genproto/googleapis/api v0.0.0-20261005182115-fad411399dd8 // indirect
	google.golang.org/genproto/googleapis/rpc v0.0.0-20261005182115-fad411399dd8 // indirect
	google.golang.org/protobuf v1.36.12 // indirect
	modernc.org/libc v1.80.1 // indirect
	modernc.org/mathutil v1.7.1 // indirect
	modernc.org/memory v1.12.1 // indirect
)
