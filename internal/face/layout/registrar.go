package layout

import (
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/model"
	"tressik.example/internal/work/registrar"
)

// bounds are what a registrar may do, as fields.
func bounds(r *registrar.Result, now time.Time) [][2]string {
	beyond := "is refused"
	if r.Waits {
		beyond = "waits for an administrator"
	}
	return Filled([][2]string{{"registers at", r.Provider}, {"kinds of client", strings.Join(r.Kinds, ", ")},
		{"redirect URIs under", strings.Join(r.Hosts, ", ")}, {"may ask for", strings.Join(r.May, ", ")},
		{"secrets last", federation.SpanWords(federation.Span(r.Secrets))}, {"clients at most", fmt.Sprint(r.Most)},
		{"past hosts, permissions", beyond},
		{"until", format.When(r.Expires, now)}, {"for", r.Note}})
}

// RegistrarMade is a new registrar with its token, or where that was written.
func RegistrarMade(m *registrar.Made, token [2]string, now time.Time) format.Page {
	blocks := []format.Block{{Lines: []string{"registrar " + m.Name + " made"}},
		{Fields: append([][2]string{token, {"id", m.ID}}, bounds(&m.Result, now)...)}}
	if m.Token != "" {
		blocks = append(blocks, format.Block{Lines: []string{"Shown once; only its hash is stored. Give it " +
			"to the program over a secure channel."}})
	}
	return format.Page{Data: m, Blocks: blocks, Once: m.Token}
}

// RegistrarTold is what is told of a registrar.
type RegistrarTold struct {
	registrar.Result
	Standing string   `json:"standing"`
	Clients  []string `json:"clients"` // the trusts of those that it made
}

// Registrars lists registrars with what they made.
func Registrars(list []model.Registrar, made []model.Registration, now time.Time) format.Page {
	b := format.Block{Verdicts: []int{1},
		Head: []string{"Registrar", "Standing", "At", "Token ends in", "Until", "Clients",
			"Uses", "Refused", "Last used"}, Noun: "registrar",
		Empty: "There is no registrar. Make one with `tressik registrar add NAME --at-provider PROVIDER`."}
	out := []RegistrarTold{}
	for i := range list {
		r := &list[i].Registrar
		x := RegistrarTold{Result: registrar.ResultOf(r), Standing: r.Standing(now), Clients: []string{}}
		for _, m := range made {
			if m.Registration.Registrar == r.Name {
				x.Clients = append(x.Clients, m.Registration.Trust)
			}
		}
		out = append(out, x)
		used := "never"
		if r.Used != nil {
			used = format.Away(*r.Used, now)
		}
		b.Rows = append(b.Rows, []string{r.Name, x.Standing, r.Provider, r.EndsIn, r.Expires.Format("2006-01-02"),
			fmt.Sprintf("%d of %d", len(x.Clients), r.Most), fmt.Sprint(r.Uses), fmt.Sprint(r.Refused), used})
	}
	return format.Page{Data: out, Blocks: []format.Block{b}}
}

// Answered is what an administrator said to what a program asked for past its bounds.
func Answered(x *registrar.Answered, needs int) format.Page {
	var lines []string
	for _, p := range x.Agreed {
		lines = append(lines, "agreed: "+x.Trust+" has "+p.Value+" now: "+p.Says())
	}
	for _, p := range x.Waiting {
		lines = append(lines, fmt.Sprintf("%d of %d agreed: %s is registered when another administrator agrees",
			len(p.Agreed), needs, p.Value))
	}
	for _, p := range x.Refused {
		lines = append(lines, "refused: "+p.Value+"; who asks for it again is told so")
	}
	if len(lines) == 0 {
		lines = []string{"nothing waits at " + x.Trust}
	}
	return format.Page{Data: x, Blocks: []format.Block{{Lines: lines}}}
}

// ClientInformation is a client as it is registered; secrets says whether what is secret is shown.
func ClientInformation(i *oidc.ClientInformation, secrets bool) format.Page {
	b := format.Block{Fields: Filled([][2]string{{"client ID", i.ClientID}, {"name", i.ClientName},
		{"kind", string(i.Kind())}, {"redirect URIs", strings.Join(i.RedirectURIs, "\n")},
		{"authenticates by", i.AuthMethod}, {"grant types", strings.Join(i.GrantTypes, ", ")}, {"scope", i.Scope},
		{"waits for an administrator", i.Waiting}})}
	for _, x := range i.Past {
		name := map[string]string{federation.Waiting: "not registered, waits", federation.PastRefused: "refused"}
		b.Fields = append(b.Fields, [2]string{name[x.Standing], x.Member + " " + x.Value})
	}
	lines := []string{}
	if secrets {
		b.Fields = append(b.Fields, Filled([][2]string{{"client secret", i.ClientSecret},
			{"registration token", i.Token}})...)
		if i.ClientSecret+i.Token != "" {
			lines = append(lines, "The secrets are shown once; only their hashes are stored.")
		}
	}
	if i.Expires != nil {
		b.Fields = append(b.Fields, [2]string{"secret until",
			time.Unix(*i.Expires, 0).UTC().Format("2006-01-02 15:04 UTC")})
	}
	out := format.Page{Data: i, Blocks: []format.Block{{Lines: []string{"client " + i.ClientID}}, b}}
	if len(lines) > 0 {
		out.Blocks = append(out.Blocks, format.Block{Lines: lines})
	}
	return out
}
