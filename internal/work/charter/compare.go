package charter

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
	"tressik.example/internal/work/arrivals"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/handoff"
)

// Comparison is how a ledger and a charter differ, and what enacting the charter costs.
type Comparison struct {
	Equal       bool         `json:"equal"`
	Differences []Difference `json:"differences" rows:"each"` // that enacting makes
	// what the ledger has beyond what the charter says there is
	Undeclared []Difference   `json:"notDeclared" rows:"each"`
	Costs      []model.Cost   `json:"costs"`    // evidence that is taken back
	Handoffs   []Handoff      `json:"handoffs"` // that no longer count
	Secrets    []Declared     `json:"secrets"`  // that are made
	Waiting    []desk.Waiting `json:"waiting"`  // consent that somebody has to give afterwards
	Digest     string         `json:"digest"`   // of what enacting does
	Enacted    bool           `json:"enacted"`

	touched []string // trusts that are new or changed
}

// Handoff is that a side of a trust has to be given what it needs again.
type Handoff struct {
	Trust string `json:"trust"`
	Side  string `json:"side"`
}

// Declared is a secret that is made, and where it goes.
type Declared struct {
	Trust string `json:"trust"`
	ID    string `json:"id,omitempty"` // once it is made
	Lasts string `json:"lasts"`
	To    string `json:"to"` // file or command
}

// Step is what a person has to do afterwards.
type Step struct {
	Trust string         `json:"trust"`
	ID    finding.StepID `json:"id"`
	Step  string         `json:"step"`
	Fix   finding.Remedy `json:"fix,omitzero"`
}

// ErrMoved means that enacting would do something else than was compared.
var ErrMoved = errors.New("the ledger or the charter is not what was compared")

// Compare says what enacting would change, in its own words: it is done on what stands, and not kept. Errors: those of
// Enact, other than that what a foreign party publishes waits for a word.
func (k *Enactor) Compare() (*Comparison, error) {
	try := *k
	try.Desk, try.Accept = desk.New(k.Try()), true
	c, _, err := try.Run("")
	return c, err
}

// Run enacts the charter, and says what that changed. compared is the digest of what somebody looked at; "" takes what
// is. Errors: ErrMoved and those of Enact; nothing is to be kept then.
func (k *Enactor) Run(compared string) (*Comparison, []Made, error) {
	was, err := k.writer().All()
	if err != nil {
		return nil, nil, err
	}
	made, err := k.Enact()
	if err != nil {
		return nil, nil, err
	}
	c, err := k.comparison(was, made)
	if err == nil && compared != "" && c.Digest != compared {
		err = ErrMoved
	}
	return c, made, err
}

// comparison compares what stood with what stands now that the charter is enacted.
func (k *Enactor) comparison(was *Charter, made []Made) (*Comparison, error) {
	is, changes := was, k.Changes()
	if len(changes.Records) > 0 {
		var err error
		if is, err = k.writer().All(); err != nil {
			return nil, err
		}
	}
	fresh, err := k.fresh(is)
	if err != nil {
		return nil, err
	}
	c := &Comparison{Differences: []Difference{}, Undeclared: undeclared(&k.File.Charter, is, fresh),
		Costs: changes.Costs(), Handoffs: []Handoff{}, Secrets: []Declared{}, Waiting: []desk.Waiting{}}
	for _, m := range made {
		c.Secrets = append(c.Secrets, Declared{m.Trust, m.ID, m.Secret.Lasts, cmp.Or(m.Secret.Out, m.Secret.Into)})
	}
	if is != was {
		c.Differences = compare(was, is)
	}
	people := 0
	for i := range changes.Records {
		switch before := changes.Records[i].Before.(type) {
		case *model.Party:
			if now, ok := changes.Records[i].After.(*model.Party); ok && before != nil && now != nil &&
				!before.Party.Own {
				c.published(&before.Party, &now.Party)
			}
		case *model.Trust:
			if now, ok := changes.Records[i].After.(*model.Trust); ok && before != nil && now != nil {
				c.handoffs(&before.Trust, &now.Trust)
			}
		}
		switch now := changes.Records[i].After.(type) {
		case *model.Person:
			people++
		case *model.Trust:
			if now != nil {
				c.touched = append(c.touched, now.Trust.Name)
			}
		}
	}
	if people > 0 {
		c.Differences = append(c.Differences, Difference{Kind: Changed, About: "people",
			Is: fmt.Sprintf("%d added or changed", people)})
	}
	if c.Costs == nil {
		c.Costs = []model.Cost{}
	}
	if err := c.waiting(k.Desk); err != nil {
		return nil, err
	}
	slices.SortStableFunc(c.Undeclared, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(a.About, b.About), cmp.Compare(a.Field, b.Field), cmp.Compare(a.Was, b.Was))
	})
	c.Equal = len(c.Differences)+len(c.Undeclared)+len(c.Secrets) == 0
	return c, c.sign()
}

// fresh are the declared trusts as new ones would begin.
func (k *Enactor) fresh(is *Charter) (map[string]reflect.Value, error) {
	out := map[string]reflect.Value{}
	if k.File.Covers != Everything {
		return out, nil
	}
	parties := map[string]*federation.Party{}
	for name, t := range is.Trusts {
		if k.File.Trusts[name] == nil {
			continue
		}
		begin, err := k.begin(name, t.Over, k.File.Trusts[name], parties)
		if err != nil {
			return nil, err
		}
		out["trust "+name] = reflect.ValueOf(begin)
	}
	return out, nil
}

// begin declares a trust as a new one would begin. What begins with being declared begins as it does then.
// read are parties that were read already; the others are added to them.
func (k *Enactor) begin(name, over string, says *Trust, read map[string]*federation.Party) (*Trust, error) {
	app, provider, _ := strings.Cut(name, "@")
	for _, n := range []string{app, provider} {
		if read[n] == nil {
			p, err := k.AnyParty(n)
			if err != nil {
				return nil, err
			}
			read[n] = p
		}
	}
	t, err := k.Fresh(over, read[app], read[provider])
	if err != nil {
		return nil, err
	}
	out := trustOf(t)
	out.ClientID = ""
	if says.Arrival != nil {
		out.Arrival = arrivalOf(arrivals.Default())
	}
	if says.reads() {
		out.Reading = readingOf(read[app].Reads)
	}
	return out, nil
}

// published adds what differs in what a foreign party published.
func (c *Comparison) published(was, is *federation.Party) {
	about := string(is.Kind) + " " + is.Name
	for _, d := range federation.Differences(was, is) {
		kind := Changed
		switch {
		case d.Was == "":
			kind = Added
		case d.Now == "":
			kind = Removed
		}
		c.Differences = append(c.Differences, Difference{Kind: kind, About: about, Field: d.What, Was: d.Was, Is: d.Now,
			Trust: d.Trust})
	}
}

func (c *Comparison) handoffs(was, is *federation.Trust) {
	for _, side := range slices.Sorted(maps.Keys(was.Handed)) {
		if _, still := is.Handed[side]; !still && is.Standing != federation.Ended {
			c.Handoffs = append(c.Handoffs, Handoff{is.Name, side})
		}
	}
}

// waiting lists what waits for an administrator at the trusts that are new or changed.
func (c *Comparison) waiting(d *desk.Desk) error {
	slices.Sort(c.touched)
	c.touched = slices.Compact(c.touched)
	for _, name := range c.touched {
		list, err := d.Waiting(name)
		if err != nil {
			return err
		}
		c.Waiting = append(c.Waiting, list...)
	}
	return nil
}

// sign makes the digest of what enacting does.
func (c *Comparison) sign() error {
	b, err := json.Marshal(struct {
		D []Difference
		S []string
	}{c.Differences, func() (out []string) {
		for _, s := range c.Secrets {
			out = append(out, s.Trust)
		}
		return out
	}()})
	sum := sha256.Sum256(b)
	c.Digest = hex.EncodeToString(sum[:])
	return err
}

// Touched are the trusts that are new or changed.
func (c *Comparison) Touched() []string { return c.touched }

// Next lists what people have to do at the trusts that are new or changed: the first step that is open of each.
func (c *Comparison) Next(d *desk.Desk) ([]Step, error) {
	out := []Step{}
	for _, name := range c.touched {
		_, todos, err := d.Sides().Next(name)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(todos, func(t handoff.Todo) bool { return !t.Done })
		if i >= 0 {
			out = append(out, Step{name, todos[i].ID, todos[i].Step, todos[i].Fix})
		}
	}
	return out, nil
}

// Ref is something outside that a charter refers to.
type Ref struct {
	Path string // in the charter, such as apps.nightlog.metadata
	From string // file, https: address, or the text itself
	Kind RefKind
	CA   string // path of the reference to the authorities of its server, "" for none
	Pin  string // SHA-256 of its server's certificate
	Keys string // of a discovery document whose keys it names itself: the path that they are read for
}

// RefKind tells what is expected there.
type RefKind int

// The kinds of reference.
const (
	RefCertificate RefKind = iota
	RefMetadata
	RefIssuer // discovery document and keys are looked for where the standard has them
	RefDiscovery
	RefKeys
	RefPeople
)

// Text reports whether a reference is the text itself.
func (r *Ref) Text() bool { return isText(r.From) }

// Refs lists what a charter refers to, certificates first: others are fetched from servers that they vouch for.
func (f *File) Refs() []Ref {
	var out []Ref
	add := func(path, from string, kind RefKind, ca, pin string) {
		if from != "" {
			out = append(out, Ref{Path: path, From: from, Kind: kind, CA: ca, Pin: pin})
		}
	}
	party := func(path string, p *Party) {
		add(path+".ca", p.CA, RefCertificate, "", "")
		add(path+".signedBy", p.SignedBy, RefCertificate, "", "")
		if s := p.SAML; s != nil {
			add(path+".saml.signingCertificate", s.SigningCertificate, RefCertificate, "", "")
			add(path+".saml.encryptionCertificate", s.EncryptionCertificate, RefCertificate, "", "")
		}
		ca := ""
		if p.CA != "" {
			ca = path + ".ca"
		}
		add(path+".metadata", p.Metadata, RefMetadata, ca, p.TLSPin)
	}
	for _, n := range slices.Sorted(maps.Keys(f.Providers)) {
		p, path := f.Providers[n], "providers."+n
		party(path, &p.Party)
		ca := ""
		if p.CA != "" {
			ca = path + ".ca"
		}
		if p.Discovery == "" {
			add(path+".discovery", p.Issuer, RefIssuer, ca, p.TLSPin)
		} else {
			add(path+".discovery", p.Discovery, RefDiscovery, ca, p.TLSPin)
			if p.JWKS == "" {
				out[len(out)-1].Keys = path + ".jwks"
			}
		}
		add(path+".jwks", p.JWKS, RefKeys, ca, p.TLSPin)
	}
	for _, n := range slices.Sorted(maps.Keys(f.Apps)) {
		party("apps."+n, &f.Apps[n].Party)
	}
	for _, n := range slices.Sorted(maps.Keys(f.Trusts)) {
		t, path := f.Trusts[n], "trusts."+n
		ca := ""
		if t.ClientKeysCA != "" {
			ca = path + ".clientKeysCA"
			add(ca, t.ClientKeysCA, RefCertificate, "", "")
		}
		if t.ClientKeysAt == "" {
			add(path+".clientKey", t.ClientKey, RefKeys, "", "")
		}
		add(path+".clientCert", t.ClientCert, RefCertificate, "", "")
		add(path+".clientCertCA", t.ClientCertCA, RefCertificate, "", "")
		add(path+".clientKeysAt", t.ClientKeysAt, RefKeys, ca, t.ClientKeysPin)
	}
	for i, p := range f.People {
		path := fmt.Sprintf("people[%d]", i)
		add(path+".ca", p.CA, RefCertificate, "", "")
		if p.Source == "" {
			add(path+".from", p.From, RefPeople, "", "")
		}
	}
	slices.SortStableFunc(out, func(a, b Ref) int {
		first := func(r Ref) int {
			if r.Kind == RefCertificate {
				return 0
			}
			return 1
		}
		return first(a) - first(b)
	})
	return out
}

// At puts the place of a reference into an error about it.
func (f *File) At(r *Ref, err error) error { return f.at(r.Path, err) }

// Offline reports whether all that a charter refers to lies in files, or in itself.
func (f *File) Offline() bool {
	for _, r := range f.Refs() {
		if !r.Text() && strings.Contains(r.From, "://") {
			return false
		}
	}
	return !slices.ContainsFunc(f.People, func(p People) bool { return strings.Contains(p.From, "://") })
}

// Drift says how a ledger has drifted from the charter at a place.
func (c *Comparison) Drift(place string) finding.List {
	var out finding.List
	n := len(c.Differences) + len(c.Undeclared)
	if n == 0 {
		out.Pass(finding.CharterDrift, "charter "+place, "as it declares")
		return out
	}
	what := []string{}
	for _, d := range append(slices.Clone(c.Differences), c.Undeclared...) {
		if s := strings.TrimSpace(d.About + " " + d.Field); !slices.Contains(what, s) {
			what = append(what, s)
		}
	}
	saw := strings.Join(what[:min(3, len(what))], ", ")
	if len(what) > 3 {
		saw += fmt.Sprintf(" and %d more", len(what)-3)
	}
	out.Add(finding.Finding{ID: finding.CharterDrift, Level: finding.Warning, Check: "charter " + place,
		Saw: "other than declared: " + saw, Expected: "the ledger as the charter declares it", Side: finding.Ledger,
		Fix: finding.Run("charter", "compare", place)})
	return out
}
