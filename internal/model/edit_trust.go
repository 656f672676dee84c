package model

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oauth"
)

// AddTrust adds a trust. Errors: ErrExists.
func (e *Edit) AddTrust(t *federation.Trust, key federation.SubjectKey) error {
	there, err := has(e, Key{Trusts, t.Name})
	if err != nil {
		return err
	}
	if there {
		return fmt.Errorf("%s is %w; see `tressik trust show %s`", t.Name, ErrExists, t.Name)
	}
	t.Added, t.Changed, t.Reshaped, t.Version = e.Now().UTC(), e.Now().UTC(), e.Now().UTC(), 1
	if err := e.put(&Trust{Trust: *t, Subject: key, Version: 1}); err != nil {
		return err
	}
	return e.note("trust.add", "", t.Name, nil, recordedTrust(t))
}

// PutTrust changes a trust under an action of the journal. Errors: ErrChanged.
func (e *Edit) PutTrust(old, t *federation.Trust, action string) error {
	r, err := get[*Trust](e.View, Key{Trusts, t.Name})
	if errors.Is(err, ErrNotFound) || err == nil && r.Version != t.Version {
		return outdated(t.Name)
	}
	if err != nil {
		return err
	}
	t.Changed = e.Now().UTC()
	if err := e.put(&Trust{Trust: *t, Subject: r.Subject, Version: r.Version + 1}); err != nil {
		return err
	}
	return e.note(action, "", t.Name, recordedTrust(old), recordedTrust(t))
}

// Carry has people keep subjects at the app of a trust, by their own keys, in place of those that they kept before;
// none takes all of them away. The trust says how many there are, and is changed with them.
func (e *Edit) Carry(old, t *federation.Trust, subjects map[string]string) error {
	var err error
	switch _, had := get[*Carrying](e.View, Key{Carried, t.Name}); {
	case len(subjects) > 0:
		err = e.put(&Carrying{Trust: t.Name, Subjects: subjects})
	case had == nil:
		_, err = e.take(Key{Carried, t.Name})
	case !errors.Is(had, ErrNotFound):
		err = had
	}
	if err != nil {
		return err
	}
	return e.PutTrust(old, t, "trust.carry")
}

// RemoveTrust takes a trust away with all that belongs to it; its runs and journal entries stay. Errors: ErrChanged.
func (e *Edit) RemoveTrust(t *federation.Trust) error {
	r, err := get[*Trust](e.View, Key{Trusts, t.Name})
	if errors.Is(err, ErrNotFound) || err == nil && r.Version != t.Version {
		return outdated(t.Name)
	}
	if err != nil {
		return err
	}
	for _, k := range []Kind{Secrets, Consents, Uses, Routes, Arrived, Expectations, Registered, Carried, StageKept} {
		if _, err := e.takeAll(Query{Kind: k, By: ByTrust, Value: t.Name}); err != nil {
			return err
		}
	}
	if _, err := e.take(r.Key()); err != nil {
		return err
	}
	return e.note("trust.remove", "", t.Name, recordedTrust(t), nil)
}

// AddSecret keeps what is to be known of a new secret.
func (e *Edit) AddSecret(s *federation.Secret) error {
	c := *s
	c.Added, c.Expires = second(c.Added), second(c.Expires)
	if err := e.put(&Secret{Secret: c, Hash: s.Hash}); err != nil {
		return err
	}
	return e.note("secret.add", "", s.Trust, nil, s)
}

// RetireSecret makes a secret invalid from now on. Errors: ErrChanged.
func (e *Edit) RetireSecret(s *federation.Secret) error {
	return e.dated(s, "secret.retire", func(s *federation.Secret, now *time.Time) { s.Retired = now })
}

// DeliverSecret notes that a secret was brought where it belongs. Errors: ErrChanged.
func (e *Edit) DeliverSecret(s *federation.Secret) error {
	return e.dated(s, "secret.deliver", func(s *federation.Secret, now *time.Time) { s.Delivered = now })
}

// dated puts the present time into a secret that is not retired.
func (e *Edit) dated(s *federation.Secret, action string, set func(*federation.Secret, *time.Time)) error {
	r, err := get[*Secret](e.View, Key{Secrets, s.ID})
	if errors.Is(err, ErrNotFound) || err == nil && r.Secret.Retired != nil {
		return outdated(s.ID)
	}
	if err != nil {
		return err
	}
	now := second(e.Now())
	set(&r.Secret, &now)
	if err := e.put(r); err != nil {
		return err
	}
	return e.note(action, "", s.Trust, nil, map[string]string{"id": s.ID, "endsIn": s.EndsIn})
}

// PutRegistrar keeps a registrar, under an action of the journal.
func (e *Edit) PutRegistrar(r *Registrar, action string) error {
	if err := e.put(r); err != nil {
		return err
	}
	return e.note(action, r.Registrar.Provider, "", nil, &r.Registrar)
}

// Registers notes that programs register clients at an own provider, which its discovery document says then.
func (e *Edit) Registers(p *federation.Party) error {
	if p.Registers {
		return nil
	}
	c := *p
	c.Registers = true
	return e.PutParty(p, &c, nil, true)
}

// RefusedRegistrar counts and notes that a registrar was used for what it may not do.
func (e *Edit) RefusedRegistrar(r *Registrar, what string) error {
	if err := e.put(r); err != nil {
		return err
	}
	return e.note("registrar.refused", r.Registrar.Provider, "", nil, map[string]string{"registrar": r.Registrar.Name,
		"refused": what})
}

// PutRegistration keeps that a registrar made or changed the client of a trust.
func (e *Edit) PutRegistration(r *Registration, action string) error {
	if err := e.put(r); err != nil {
		return err
	}
	return e.note(action, "", r.Registration.Trust, nil, &r.Registration)
}

// ForgetRegistration forgets what was kept of the registration of a trust's client.
func (e *Edit) ForgetRegistration(trust string) error {
	if _, err := e.take(Key{Registered, trust}); err != nil {
		return err
	}
	return e.note("registration.forget", "", trust, nil, map[string]string{"trust": trust})
}

// PutConsents keeps consents of one trust, each in place of what was there for the same permission and person. Those
// of a trust that is gone are passed over.
func (e *Edit) PutConsents(action string, list []federation.Consent) error {
	for i := range list {
		c := list[i]
		there, err := has(e, Key{Trusts, c.Trust})
		if err != nil {
			return err
		}
		if there {
			c.At = second(c.At)
			if err := e.put(&Consent{c}); err != nil {
				return err
			}
		}
		if err := e.note(action, "", c.Trust, nil, &list[i]); err != nil {
			return err
		}
	}
	return nil
}

// SettleRequests takes away the requests that a consent for everyone, or for the person, has met.
func (e *Edit) SettleRequests(c *federation.Consent) error {
	var met []Key
	for r, err := range find[*Consent](e.View, Query{Kind: Consents, By: ByTrust, Value: c.Trust}) {
		if err != nil {
			return err
		}
		if r.API == c.API && r.Name == c.Name && r.As == c.As && r.Standing == federation.Requested &&
			(c.For == "" || Folded(c.For) == Folded(r.For)) {
			met = append(met, r.Key())
		}
	}
	for _, k := range met {
		if _, err := e.take(k); err != nil {
			return err
		}
	}
	return nil
}

// Consented keeps consents, each journaled by what it is, and settles the requests that they answer.
func (e *Edit) Consented(list []federation.Consent) error {
	actions := map[string]string{federation.Consented: "consent.give", federation.Withdrawn: "consent.withdraw",
		federation.Requested: "consent.request"}
	for i := range list {
		if list[i].Standing == federation.Consented {
			if err := e.SettleRequests(&list[i]); err != nil {
				return err
			}
		}
		if err := e.PutConsents(actions[list[i].Standing], list[i:i+1]); err != nil {
			return err
		}
	}
	return nil
}

// ForgetAsk takes away the consents and uses of a permission that is no longer asked for.
func (e *Edit) ForgetAsk(trust string, a federation.Ask) error {
	var gone []Key
	for r, err := range find[*Consent](e.View, Query{Kind: Consents, By: ByTrust, Value: trust}) {
		if err != nil {
			return err
		}
		if r.Of(a) {
			gone = append(gone, r.Key())
		}
	}
	gone = append(gone, (&Use{federation.Use{Trust: trust, API: a.API, Name: a.Name, As: a.As}}).Key())
	for _, k := range gone {
		if _, err := e.take(k); err != nil {
			return err
		}
	}
	return nil
}

// Sightings are what a stage saw since the last time: uses of permissions, and secrets by ID with the time of their
// use.
type Sightings struct {
	Uses    []federation.Use
	Secrets map[string]time.Time
}

// Saw keeps sightings. They are readings, not changes that somebody made, so the journal does not have them.
func (e *Edit) Saw(s Sightings) error {
	for _, u := range s.Uses {
		there, err := has(e, Key{Trusts, u.Trust})
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		r := &Use{u}
		r.Issued, r.Presented = second(u.Issued), second(u.Presented)
		had, err := get[*Use](e.View, r.Key())
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		if err == nil {
			r.Issued, r.Presented = later(r.Issued, had.Issued), later(r.Presented, had.Presented)
		}
		if err := e.put(r); err != nil {
			return err
		}
	}
	for id, at := range s.Secrets {
		r, err := get[*Secret](e.View, Key{Secrets, id})
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		used := second(at)
		if r.Secret.Used != nil {
			used = later(used, *r.Secret.Used)
		}
		r.Secret.Used = &used
		if err := e.put(r); err != nil {
			return err
		}
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// AddStageKey keeps a key of a stage, sealed; one that is there already stays.
func (e *Edit) AddStageKey(party, kind string, k Opened) error {
	sealed, err := e.seal(k.Key)
	if err != nil {
		return err
	}
	r := &StageKey{Party: party, Kind: kind, Certificate: k.Certificate.Raw, Sealed: sealed}
	if there, err := has(e, r.Key()); err != nil || there {
		return err
	}
	return e.put(r)
}

// AddRefreshKey keeps the key with which the refresh tokens of stages are made; one that is there already stays.
func (e *Edit) AddRefreshKey(key []byte) error {
	sealed, err := e.Vault.Seal(key)
	if err != nil {
		return err
	}
	r := &StageKey{Kind: refreshTokens, Sealed: sealed}
	if there, err := has(e, r.Key()); err != nil || there {
		return err
	}
	return e.put(r)
}

// KeepState keeps what a stage must not forget, and forgets what is over. Like sightings it is no change that somebody
// made.
func (e *Edit) KeepState(list []oauth.Kept) error {
	for i := range list {
		r := &Kept{list[i]}
		r.Until = second(r.Until)
		if r.Family != nil {
			r.Until = second(r.Family.Until)
			there, err := has(e, Key{Trusts, r.Family.Trust})
			if err != nil {
				return err
			}
			if !there {
				continue
			}
		} else if there, err := has(e, r.Key()); err != nil {
			return err
		} else if there {
			continue
		}
		if err := e.put(r); err != nil {
			return err
		}
	}
	if len(list) > 0 {
		e.changes.Over = second(e.Now())
	}
	return nil
}

// PutRoute says where people of a domain sign in.
func (e *Edit) PutRoute(r federation.Route) error {
	if err := e.put(&Route{r}); err != nil {
		return err
	}
	return e.note("route.add", "", r.Trust, nil, r)
}

// RemoveRoute takes a route away. Errors: ErrNotFound.
func (e *Edit) RemoveRoute(domain string) error {
	there, err := e.take(Key{Routes, domain})
	if err != nil {
		return err
	}
	if !there {
		return ErrNotFound
	}
	return e.note("route.remove", "", "", map[string]string{"domain": domain}, nil)
}

// Bind notes as whom a subject of an upstream provider comes in; how says how it came to be.
func (e *Edit) Bind(a Arrival, how string) error {
	a.At = second(e.Now())
	if err := e.put(&a); err != nil {
		return err
	}
	return e.note("people.arrive", "", a.Trust, nil, map[string]string{"person": a.Person, "how": how})
}

// AddRun keeps a rehearsal, a probe or a watch with all its findings, and gives it its number.
func (e *Edit) AddRun(r *federation.Run) (err error) {
	if r.Number, err = e.next(Runs); err != nil {
		return err
	}
	return e.put(&Run{*r})
}

// PutAccounts replaces what is known of the accounts inside an app.
func (e *Edit) PutAccounts(app, source string, list []accounts.Account) error {
	if err := e.put(&Export{App: app, Source: source, At: second(e.Now()), Accounts: list}); err != nil {
		return err
	}
	return e.note("accounts.load", app, "", nil, map[string]any{"source": source, "accounts": len(list)})
}

// Let keeps that a finding about a trust or a party is let be.
func (e *Edit) Let(a *Let) error {
	if err := e.put(&Acceptance{About: a.About, Let: a}); err != nil {
		return err
	}
	return e.note("check.accept", "", a.About, nil, a)
}

// Reopen takes back that a finding is let be. Errors: ErrNotFound.
func (e *Edit) Reopen(finding, about string) error {
	there, err := e.take(Key{Accepted, joined(about, finding)})
	if err != nil {
		return err
	}
	if !there {
		return fmt.Errorf("%s of %s: %w", finding, about, ErrNotFound)
	}
	return e.note("check.reopen", "", about, map[string]string{"finding": finding}, nil)
}

// stepOf is what a step is kept under that was known by its words alone.
func stepOf(step string) string {
	sum := sha256.Sum256([]byte(step))
	return "step:" + hex.EncodeToString(sum[:8])
}

// Settle keeps that a step of a trust was settled by hand.
func (e *Edit) Settle(trust string, s *Settled) error {
	s.By, s.At = e.Actor, e.Now().UTC()
	if err := e.put(&Acceptance{About: trust, Settled: s}); err != nil {
		return err
	}
	return e.note("trust.settle-step", "", trust, nil, s)
}

// AddExpected keeps an expectation, and gives it its ID.
func (e *Edit) AddExpected(x *federation.Expected) (err error) {
	x.Added = e.Now().UTC()
	if x.ID, err = e.next(Expectations); err != nil {
		return err
	}
	if err := e.put(&Expectation{*x}); err != nil {
		return err
	}
	return e.note("expect.add", "", x.Trust, nil, recordedExpected(x))
}

// RemoveExpected takes an expectation away. Errors: ErrNotFound.
func (e *Edit) RemoveExpected(x *federation.Expected) error {
	there, err := e.take((&Expectation{*x}).Key())
	if err != nil {
		return err
	}
	if !there {
		return ErrNotFound
	}
	return e.note("expect.remove", "", x.Trust, recordedExpected(x), nil)
}

// Held notes when expectations held, and at which entry of the journal; it is seen, not changed, and has no entry
// itself. Those that were taken away meanwhile stay away.
func (e *Edit) Held(list []federation.Expected) error {
	for i := range list {
		r := &Expectation{list[i]}
		there, err := has(e, r.Key())
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		if err := e.put(r); err != nil {
			return err
		}
	}
	return nil
}
