// Package due finds what runs out: certificates, metadata, secrets, keys that wait for their next place, consents that
// people wait for.
package due

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
	"tressik.example/internal/work/keyring"
)

// The kinds of what runs out.
const (
	Certificate = "certificate" // of an own or a foreign party
	Metadata    = "metadata"    // its validUntil
	Secret      = "secret"      // the last of a client that is valid
	Key         = "key"         // an own one that waits to be activated or withdrawn
	Consent     = "consent"     // a person was stopped and waits, or a program asked for more than it may
	Pin         = "pin"         // the certificate of a server that is known by it alone
	People      = "people"      // a file of people was not read for long
	Cutover     = "cutover"     // a trust is to be made live
	Elsewhere   = "elsewhere"   // what somebody entered of a foreign side
	Reading     = "reading"     // what a foreign party publishes cannot be read, or waits to be accepted
)

// Item is one thing that runs out, or that somebody waits for.
type Item struct {
	ID      string         `json:"id"` // stays from run to run
	Kind    string         `json:"kind"`
	About   string         `json:"about"` // the party or the trust
	What    string         `json:"what"`
	At      time.Time      `json:"at"`
	Overdue bool           `json:"overdue"`
	Tell    []string       `json:"tell"` // mail addresses from metadata
	Fix     finding.Remedy `json:"fix"`
}

// Finder reads a ledger.
type Finder struct {
	*model.Book
	Keeper *keyring.Keeper
	read   map[string]federation.Reading
	out    []Item
}

// Ledger is what is read of a ledger, for whoever asks several questions of all of it: its parties, its trusts, and
// what belongs to clients, by trust.
type Ledger struct {
	Parties  []federation.Party
	Trusts   []federation.Trust
	Subjects map[string]federation.SubjectKey
	Secrets  map[string][]federation.Secret
	Consents map[string][]federation.Consent
	Made     map[string]federation.Registration // by trust
	Keys     map[string][]federation.Secret     // of clients, that renewals made
}

// Read reads a ledger. Errors: those of the ledger.
func Read(v model.View) (*Ledger, error) {
	l := &Ledger{Made: map[string]federation.Registration{}, Keys: map[string][]federation.Secret{}}
	var err error
	if l.Parties, err = v.Parties(""); err != nil {
		return nil, err
	}
	if l.Trusts, l.Subjects, err = v.Agreed(); err != nil {
		return nil, err
	}
	if l.Secrets, err = v.SecretsByTrust(); err != nil {
		return nil, err
	}
	if l.Consents, err = v.ConsentsByTrust(); err != nil {
		return nil, err
	}
	keys, err := v.RenewedKeys("")
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		if k.Retired == nil {
			l.Keys[k.Trust] = append(l.Keys[k.Trust], k)
		}
	}
	made, err := v.Registrations("")
	for _, r := range made {
		l.Made[r.Registration.Trust] = r.Registration
	}
	return l, err
}

// ReadOf reads what concerns some trusts: their parties, the other trusts of their apps, all providers and all APIs.
// What it has of those trusts is what Read has of them.
func ReadOf(v model.View, names []string) (*Ledger, error) {
	l := &Ledger{Secrets: map[string][]federation.Secret{}, Consents: map[string][]federation.Consent{},
		Made: map[string]federation.Registration{}, Keys: map[string][]federation.Secret{},
		Subjects: map[string]federation.SubjectKey{}}
	parties, trusts := map[string]*federation.Party{}, map[string]bool{}
	providers, err := v.Parties(federation.Provider)
	if err != nil {
		return nil, err
	}
	for i := range providers {
		parties[providers[i].Name] = &providers[i]
	}
	apis, err := v.APIs()
	if err != nil {
		return nil, err
	}
	maps.Copy(parties, apis)
	for _, name := range names {
		t, err := v.Trust(name)
		if err != nil {
			return nil, err
		}
		if parties[t.App] == nil {
			if parties[t.App], err = v.Party(t.App); err != nil {
				return nil, err
			}
		}
		beside, err := v.TrustsOf(t.App)
		if err != nil {
			return nil, err
		}
		for _, x := range beside {
			if trusts[x.Name] {
				continue
			}
			trusts[x.Name] = true
			l.Trusts = append(l.Trusts, x)
			if err := l.of(v, x.Name); err != nil {
				return nil, err
			}
		}
	}
	slices.SortFunc(l.Trusts, func(a, b federation.Trust) int { return strings.Compare(a.Name, b.Name) })
	for _, name := range slices.Sorted(maps.Keys(parties)) {
		l.Parties = append(l.Parties, *parties[name])
	}
	return l, nil
}

// of reads what hangs on a trust.
func (l *Ledger) of(v model.View, trust string) (err error) {
	if l.Subjects[trust], err = v.SubjectKey(trust); err != nil {
		return err
	}
	if l.Secrets[trust], err = v.Secrets(trust); err != nil {
		return err
	}
	if l.Consents[trust], err = v.Consents(trust); err != nil {
		return err
	}
	keys, err := v.RenewedKeys(trust)
	if err != nil {
		return err
	}
	l.Keys[trust] = slices.DeleteFunc(keys, func(k federation.Secret) bool { return k.Retired != nil })
	made, err := v.Registration(trust)
	if errors.Is(err, model.ErrNotFound) {
		return nil
	}
	if err == nil {
		l.Made[trust] = made.Registration
	}
	return err
}

// Within returns what runs out in a time from now, what is overdue included, the soonest first: of everything, or of as
// much as concerns some trusts.
func (f *Finder) Within(span time.Duration, trusts ...string) ([]Item, error) {
	l, err := f.ledger(trusts)
	if err != nil {
		return nil, err
	}
	return f.Of(l, span)
}

func (f *Finder) ledger(trusts []string) (*Ledger, error) {
	if len(trusts) > 0 {
		return ReadOf(f.View, trusts)
	}
	return Read(f.View)
}

// Of is Within, for whoever has read the ledger.
func (f *Finder) Of(l *Ledger, span time.Duration) ([]Item, error) {
	f.out = []Item{}
	var err error
	if f.read, err = f.View.Readings(); err != nil {
		return nil, err
	}
	parties := map[string]*federation.Party{}
	for i := range l.Parties {
		p := &l.Parties[i]
		parties[p.Name] = p
		f.party(p)
		if !p.Own {
			continue
		}
		if err := f.keys(p); err != nil {
			return nil, err
		}
	}
	if err := f.sources(); err != nil {
		return nil, err
	}
	for i := range l.Trusts {
		t := &l.Trusts[i]
		app, provider := parties[t.App], parties[t.Provider]
		if app != nil && provider != nil && t.Standing != federation.Ended {
			f.trust(t, app, provider, l.Secrets[t.Name], l.Consents[t.Name])
			if keys := l.Keys[t.Name]; len(keys) > 0 {
				last := keys[len(keys)-1]
				f.add(Secret, t.Name, fmt.Sprintf("its client's key is to be renewed (kid %s)", last.ID), last.Expires,
					app.Contact(), finding.Run("secret", "renew", t.Name, "--lasts", "90d", "--out", finding.BlankFile))
			}
			made := l.Made[t.Name]
			for _, x := range made.Waiting(provider) {
				f.add(Consent, t.Name, "a program asked for "+x.Value+" past the bounds of "+made.Registrar+
					", and waits for an administrator", x.Since, "", x.Agree(t.Name), x.Member, x.Value)
			}
		}
	}
	end := f.Now().Add(span)
	f.out = slices.DeleteFunc(f.out, func(x Item) bool { return x.At.After(end) })
	slices.SortStableFunc(f.out, func(a, b Item) int { return a.At.Compare(b.At) })
	return f.out, nil
}

// add notes an item. what it is about and the words for it make its ID, so that it stays while only the time moves.
func (f *Finder) add(kind, about, what string, at time.Time, tell string, fix finding.Remedy, id ...string) {
	sum := sha256.Sum256([]byte(kind + "\x00" + about + "\x00" + strings.Join(id, "\x00")))
	x := Item{ID: hex.EncodeToString(sum[:8]), Kind: kind, About: about, What: what, At: at.UTC(), Tell: []string{},
		Fix:     fix,
		Overdue: kind != Key && kind != Consent && at.Before(f.Now())} // these wait, and nothing has run out
	if tell != "" {
		x.Tell = append(x.Tell, tell)
	}
	f.out = append(f.out, x)
}

// patience is how long a foreign party may be unreadable before that is overdue.
const patience = 3 * 24 * time.Hour

// reading notes that a foreign party could not be read again, or that what it publishes now waits.
func (f *Finder) reading(p *federation.Party) {
	if r := f.read[p.Name]; !r.Pinned.IsZero() {
		f.add(Pin, p.Name, "the pinned certificate of its server ends", r.Pinned,
			p.Contact(), p.Repin())
	}
	switch r := f.read[p.Name]; r.Outcome {
	case federation.ReadFailed:
		f.add(Reading, p.Name, fmt.Sprintf("it cannot be read since %s: %s", r.Since.Format(time.DateOnly), r.Why),
			r.Since.Add(patience), p.Contact(),
			finding.Do("ask its owner whether the address still holds").
				Then(finding.Run(string(p.Kind), "refresh", p.Name)), r.Outcome)
	case federation.ReadLeft:
		f.add(Reading, p.Name, fmt.Sprintf("its registry has it no more since %s: nothing proves its trusts meanwhile",
			r.Since.Format(time.DateOnly)), r.Since, p.Contact(),
			finding.Do("ask its registry, and its owner on another way, why").
				Then(finding.Run(string(p.Kind), "refresh", p.Name)), r.Outcome)
	case federation.ReadWaits:
		f.add(Reading, p.Name, "what it publishes now touches trust, and waits for your word", r.Since, p.Contact(),
			federation.AcceptDifferences(p.Kind, p.Name), r.Outcome)
		f.out[len(f.out)-1].Overdue = false // it waits
	}
}

// stale is how old what was read of a file of people may be.
const stale = 30 * 24 * time.Hour

// sources notes files of people that were not read for long; directories are read when they are needed.
func (f *Finder) sources() error {
	list, err := f.View.Sources()
	if err != nil {
		return err
	}
	for _, s := range list {
		if s.Directory() {
			continue
		}
		days := int(f.Now().Sub(s.Read).Hours() / 24)
		f.add(People, s.Name, fmt.Sprintf("its file of people was last read %d days ago", days), s.Read.Add(stale), "",
			finding.Run("people", "source", "read", s.Name))
	}
	return nil
}

// party notes the certificates and the validity of a foreign party's metadata.
func (f *Finder) party(p *federation.Party) {
	f.reading(p)
	r := p.Role()
	if r == nil || p.Own {
		return
	}
	again := finding.Run(string(p.Kind), "change", p.Name, "--metadata", "SOURCE")
	if strings.HasPrefix(p.Source, "https://") || strings.HasPrefix(p.Source, "http://") {
		again = finding.Run(string(p.Kind), "change", p.Name, "--metadata", p.Source)
	}
	if end := p.Entity.Until(r); end != nil {
		f.add(Metadata, p.Name, "its metadata ends (validUntil)", *end, p.Contact(), again)
	}
	for _, e := range r.Ends(f.Now()) {
		f.add(Certificate, p.Name, "its last "+e.Use+" certificate ends", e.Until, p.Contact(),
			finding.Do("ask its owner for metadata with the next one").Then(again), e.Use)
	}
}

// keys notes the ends of an own party's certificates, and keys that wait for their next place.
func (f *Finder) keys(p *federation.Party) error {
	plan, err := f.Keeper.Plan(p.Name)
	if err != nil {
		return err
	}
	ring, err := f.Keeper.Ring(p.Name)
	if err != nil {
		return err
	}
	for _, u := range plan.Uses {
		active, next := ring.At(u.Use, federation.Active), ring.At(u.Use, federation.Announced)
		if active != nil && next == nil && u.Use != federation.ForTokens { // a key of a JWKS has no end of its own
			f.add(Certificate, p.Name, "the "+u.Use+" certificate of "+active.ID+" ends",
				active.Certificate.NotAfter, p.Contact(), finding.Run("key", "announce", p.Name, "--use",
					u.Use), u.Use)
		}
		for _, s := range u.Steps {
			switch {
			case s.Done || s.Fix.IsZero() || !s.By.IsZero():
			case len(s.Waits) > 0:
				since := f.Now() // an outgoing key
				if next != nil {
					since = next.Announced
				}
				f.add(Key, p.Name, s.What+": waits for "+strings.Join(s.Waits, ", "), since, p.Contact(),
					finding.Run("key", "plan", p.Name), u.Use, s.What)
			default:
				at := s.When
				switch {
				case !at.IsZero():
				case next != nil:
					at = next.Announced
				default: // nothing is in use, and nothing is to come
					at = f.Now()
				}
				f.add(Key, p.Name, s.What+": safe from then on", at, p.Contact(), s.Fix, u.Use, s.What)
			}
		}
	}
	return nil
}

// trust notes the last secret of a client, and people who wait for a consent.
func (f *Finder) trust(t *federation.Trust, app, provider *federation.Party, secrets []federation.Secret,
	consents []federation.Consent) {
	var last *federation.Secret
	for i := range secrets {
		s := &secrets[i]
		if s.Retired == nil && (last == nil || s.Expires.After(last.Expires)) {
			last = s
		}
	}
	if last != nil {
		f.add(Secret, t.Name, fmt.Sprintf("its last secret expires (%s)", last.ID), last.Expires,
			app.Contact(), finding.Run("secret", "add", t.Name, "--lasts", "90d"))
	}
	for i := range t.Ends {
		e := &t.Ends[i]
		again := e.What + "=DATE"
		if e.Unused > 0 {
			again = fmt.Sprintf("%s=unused:%dm", e.What, e.Unused/60)
			if day := 24 * 3600; e.Unused%day == 0 {
				again = fmt.Sprintf("%s=unused:%dd", e.What, e.Unused/day)
			}
		}
		f.add(Elsewhere, t.Name, e.Words(t), e.When(t), app.Contact(), finding.Do("have it renewed at the other side, "+
			"and enter until when it then holds").Then(finding.Run("trust", "change", t.Name, "--ends", again)), e.What)
	}
	if c := t.Plan; c != nil {
		f.add(Cutover, t.Name, "it is to be made live, planned by "+c.By+" for "+c.When(), c.From, app.Contact(),
			finding.Do("leave it to the timer that runs it, or carry it out at that time").
				Then(finding.Run("cutover", "--due")))
	}
	for _, c := range consents {
		if c.Standing != federation.Requested {
			continue
		}
		label := federation.Ask{API: c.API, Name: c.Name}.Label()
		f.add(Consent, t.Name, c.For+" was stopped and waits for consent to "+label, c.At, "",
			provider.Agree(t.Name, label), label, c.For)
	}
}

// Fresh leaves of a list what Told did not note before, or what has become overdue since.
func (f *Finder) Fresh(list []Item) ([]Item, error) {
	told, err := f.View.Told()
	return slices.DeleteFunc(slices.Clone(list), func(x Item) bool { return told[x.mark()] }), err
}

// Told notes that a list was said, whole.
func (f *Finder) Told(list []Item) error {
	marks := make([]string, len(list))
	for i := range list {
		marks[i] = list[i].mark()
	}
	return f.Change(func(tx *model.Edit) error { return tx.Tell(marks) })
}

// mark tells what was said of an item.
func (x *Item) mark() string {
	if x.Overdue {
		return x.ID + " overdue"
	}
	return x.ID
}
