package layout

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/drill"
	"tressik.example/internal/work/keyring"
)

// OwnKey is what is told of one own key, for programs.
type OwnKey struct {
	Party string `json:"party"`
	federation.OwnKey
	Kind    string    `json:"kind"`
	KeyID   string    `json:"kid,omitempty"` // in the JWKS
	Subject string    `json:"subject"`
	From    time.Time `json:"notBefore"`
	Until   time.Time `json:"notAfter"`
	SHA256  string    `json:"certificateSHA256"`
	Above   []string  `json:"chain,omitempty"` // subjects of the authorities above it, the nearest first
}

// KeyData is what is told of own keys, for programs.
func KeyData(r *keyring.Ring, k *federation.OwnKey) OwnKey {
	c := k.Certificate
	out := OwnKey{Party: r.Party.Name, OwnKey: *k, Kind: keys.Describe(c.PublicKey), Subject: c.Subject.String(),
		From: c.NotBefore.UTC(), Until: c.NotAfter.UTC(), SHA256: keys.Fingerprint(c)}
	for _, a := range k.Chain {
		out.Above = append(out.Above, a.Subject.String())
	}
	if k.Use != federation.ForEncryption {
		out.KeyID, _ = oidc.KeyID(c.PublicKey) // every key of a ring has one
	}
	return out
}

// Keys is the table of own parties' keys.
func Keys(rings []keyring.Ring, now time.Time) format.Page {
	b := format.Block{Head: []string{"Party", "Use", "Place", "Key", "Kind", "Certificate ends"}, Noun: "key",
		Empty: "There is no own party yet. Add the first with `tressik provider add NAME --own --at URL`."}
	data := []OwnKey{}
	for i := range rings {
		for j := range rings[i].Keys {
			x := KeyData(&rings[i], &rings[i].Keys[j])
			data = append(data, x)
			b.Rows = append(b.Rows, []string{x.Party, x.Use, x.Place, x.ID, x.Kind, format.When(x.Until, now)})
		}
	}
	return format.Page{Data: data, Blocks: []format.Block{b}}
}

// Key is one own key.
func Key(r *keyring.Ring, k *federation.OwnKey, now time.Time) format.Page {
	x := KeyData(r, k)
	since := "not known: the ledger is older than this record"
	if !k.Since.IsZero() {
		since = format.When(k.Since, now)
	}
	words := map[string]string{federation.Announced: "published beside the active one, and signs nothing yet",
		federation.Active: "in use", federation.Outgoing: "signs no more; what it signed is still accepted",
		federation.Unpublished: "nobody else knows of it; it waits to be announced"}[k.Place]
	if k.Use == federation.ForEncryption {
		words = map[string]string{federation.Announced: "decrypts already, and is not published yet",
			federation.Active:   "in use",
			federation.Outgoing: "published no more; it still decrypts", federation.Unpublished: "it waits to be " +
				"announced"}[k.Place]
	}
	b := format.Block{Fields: [][2]string{{"party", x.Party}, {"use", x.Use}, {"place", x.Place + ": " + words},
		{"since", since},
		{"kind", x.Kind}, {"subject", x.Subject}, {"valid from", format.When(x.From, now)}, {"valid until",
			format.When(x.Until,
				now)},
		{"certificate, SHA-256", x.SHA256}}}
	for _, c := range k.Chain {
		b.Fields = append(b.Fields, [2]string{"below the authority",
			c.Subject.String() + ", until " + format.When(c.NotAfter, now)})
	}
	if x.KeyID != "" {
		b.Fields = append(b.Fields, [2]string{"kid in the JWKS", x.KeyID})
	}
	return format.Page{Data: x, Blocks: []format.Block{{Lines: []string{"key " + k.ID}}, b}}
}

// KeyPlan is the calendar of a party's rollovers.
func KeyPlan(p *keyring.Plan, now time.Time) format.Page {
	var blocks []format.Block
	for _, u := range p.Uses {
		b := format.Block{Title: "Keys of " + p.Party + " for " + u.Use}
		for _, s := range u.Steps {
			b.Lines = append(b.Lines, step(s, now)...)
		}
		blocks = append(blocks, b)
		if len(u.Sights) == 0 {
			continue
		}
		t := format.Block{Head: []string{"Trust", "Who must have it", "Has it", "How that is known"}, Noun: "trust"}
		for _, s := range u.Sights {
			has := "yes"
			switch {
			case s.Assumed:
				has = "assumed"
			case !s.Seen:
				has = "not known"
			}
			t.Rows = append(t.Rows, []string{s.Trust, s.Party, has,
				strings.TrimPrefix(strings.TrimPrefix(s.How, "assumed: "), "not known: ")})
		}
		blocks = append(blocks, t)
	}
	return format.Page{Data: p, Blocks: blocks}
}

// step writes one step of a rollover with when, who is waited for, and how.
func step(s keyring.Step, now time.Time) []string {
	if s.Done {
		return []string{fmt.Sprintf("  done  %s, %s", s.What, format.When(s.When, now))}
	}
	when := "once the step before is done"
	switch {
	case len(s.Waits) > 0:
		when = "waits for " + strings.Join(s.Waits, ", ")
	case !s.By.IsZero():
		when = "by " + format.When(s.By, now)
	case !s.When.IsZero() && s.When.After(now):
		when = "from " + format.When(s.When, now)
	case !s.Fix.IsZero():
		when = "safe now"
	}
	out := []string{fmt.Sprintf("  open  %s: %s", s.What, when)}
	if s.Breaks != "" {
		out = append(out, "        done now it may break: "+s.Breaks)
	}
	for x := &s.Fix; x != nil && !x.IsZero(); x = x.Next { // each command on a line of its own
		one := *x
		one.Next = nil
		out = append(out, "        "+format.Remedy(one))
	}
	return out
}

// Delivering says whom an announced key has to be delivered to before it is activated: nobody, where it decrypts.
func Delivering(party string, k *federation.OwnKey, sights []keyring.Sight) format.Block {
	if k.Use == federation.ForEncryption {
		return format.Block{Lines: []string{"It decrypts already. Publish it by making it active: " +
			format.Remedy(finding.Run("key", "activate", party, "--use", k.Use))}}
	}
	b := format.Block{Title: "Who must have it before it is activated"}
	for _, s := range sights {
		line := "  " + s.Trust + ": " + s.How
		if !s.Seen {
			line = "  " + s.Trust + ": not yet; " + format.Remedy(s.Fix)
		}
		b.Lines = append(b.Lines, line)
	}
	if len(sights) == 0 {
		b.Lines = []string{"  nobody: no trust rests on it"}
	}
	return b
}

// Drill is what came of a rollover that was tried.
func Drill(d *drill.Drill) format.Page {
	b := format.Block{Title: "Rollover of the " + d.Use + " key of " + d.Party + ", on a copy of the ledger"}
	for _, s := range d.Steps {
		b.Lines = append(b.Lines, fmt.Sprintf("  %-12s %s", fmt.Sprintf("%d accepted", len(s.Accepted)), s.What))
		for _, trust := range slices.Sorted(maps.Keys(s.Refused)) {
			b.Lines = append(b.Lines, "      REFUSED  "+trust+": "+strings.Join(s.Refused[trust], ", "))
		}
	}
	blocks := []format.Block{b}
	if len(d.NotTried) > 0 {
		n := format.Block{Title: "Not tried"}
		for _, trust := range slices.Sorted(maps.Keys(d.NotTried)) {
			n.Lines = append(n.Lines, "  "+trust+": "+d.NotTried[trust])
		}
		blocks = append(blocks, n)
	}
	end := fmt.Sprintf("It holds for the %s that could be tried, with stand-ins for foreign parties: with "+
		"everybody told in "+
		"time, every sign-in goes on after each step.", format.Count(d.Tried(), "trust"))
	switch {
	case !d.Holds:
		end = "It does not hold: see what was refused."
	case d.Tried() == 0:
		end = "Whether it holds is not known: no sign-in could be tried."
	}
	if n := len(d.NotTried); n > 0 && d.Holds {
		end += fmt.Sprintf(" Of %s nothing is known.", format.Count(n, "other"))
	}
	if n := len(d.Assumed); n > 0 && d.Holds {
		end += fmt.Sprintf(" That the other side of %s reads the new key by itself is assumed, and was not seen.",
			format.Count(n, "trust"))
	}
	return format.Page{Data: d, Blocks: append(blocks, format.Block{Lines: []string{end}})}
}

// Emergency is what follows from a key that was taken away.
func Emergency(e *keyring.Emergency) format.Page {
	first := format.Block{Lines: []string{fmt.Sprintf("key %s of %s is gone", e.Gone.ID, e.Party)}}
	if e.Active != nil && e.Active.ID != e.Gone.ID {
		first.Lines = append(first.Lines, fmt.Sprintf("key %s is active in its place", e.Active.ID))
	}
	now := format.Block{Title: "From now on"}
	for _, s := range e.Invalid {
		now.Lines = append(now.Lines, "  "+s)
	}
	tell := format.Block{Title: "Whom to tell, the most urgent first"}
	for i, t := range e.Tell {
		to := t.Party
		if t.Mail != "" {
			to += ", " + t.Mail
		}
		tell.Lines = append(tell.Lines, fmt.Sprintf("  %d  %s (%s): %s", i+1, t.Trust, t.Standing, to), "     "+t.Why,
			"     "+format.Remedy(t.Fix))
	}
	if len(e.Tell) == 0 {
		tell.Lines = []string{"  nobody: no trust with a foreign party rests on it"}
	}
	blocks := []format.Block{first, now, tell}
	if len(e.APIs) > 0 {
		b := format.Block{Title: "APIs that take its tokens, with whatever stands in them", Head: []string{"API",
			"Permissions", "Owner"}, Noun: "API"}
		for _, a := range e.APIs {
			b.Rows = append(b.Rows, []string{a.API, strings.Join(a.Permissions, ", "), cmp.Or(a.Owner, "not known")})
		}
		blocks = append(blocks, b)
	}
	return format.Page{Data: e, Blocks: blocks}
}
