package model

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
)

// A secret is shown once, and the ledger keeps a hash of it: between the commit and the moment in which it was shown,
// or lies in its file, only the process that made it knows it. One that is killed then leaves a secret that is valid
// and that nobody has. So what a process made is noted together with it, and crossed out once it was handed out; what
// a dead process did not cross out the next command takes back.

// Handing is a secret, a key of a client or a registrar's token that was made and not handed out yet.
type Handing struct {
	Trust     string    `json:"trust,omitempty"`     // of the secret
	Secret    string    `json:"secret,omitempty"`    // its ID
	Registrar string    `json:"registrar,omitempty"` // whose token it is
	By        string    `json:"by"`                  // the process that made it
	Into      []string  `json:"into,omitempty"`      // files and folders into which it is written; none: it is shown
	At        time.Time `json:"at"`
}

// same reports whether two are the same thing being handed out.
func (h *Handing) same(o *Handing) bool {
	return h.Trust == o.Trust && h.Secret == o.Secret && h.Registrar == o.Registrar && h.By == o.By
}

// HandingLongest is how long a process of another machine, of which nobody here knows whether it lives, is taken to be
// about to hand something out.
const HandingLongest = 24 * time.Hour

// Handing lists what was made and not handed out yet.
func (v View) Handing() ([]Handing, error) {
	text, err := v.Value(SettingHanding)
	if err != nil || text == "" {
		return nil, err
	}
	var out []Handing
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		return nil, fmt.Errorf("what is being handed out: %w", err)
	}
	return out, nil
}

// HandOut notes that a process is about to hand out the secrets, keys of clients and registrars' tokens that were made
// in this change; the process crosses them out with HandedOut. It reports whether there are any.
func (e *Edit) HandOut(by string, into ...string) (bool, error) {
	var made []Handing
	for _, c := range e.changes.Records {
		switch x := c.After.(type) {
		case *Secret:
			if c.Before == nil && x.Secret.Retired == nil {
				made = append(made, Handing{Trust: x.Secret.Trust, Secret: x.Secret.ID, By: by, Into: into,
					At: e.Now().UTC()})
			}
		case *Registrar:
			was, there := c.Before.(*Registrar)
			if x.Registrar.Retired == nil && (!there || was.Hash != x.Hash) {
				made = append(made, Handing{Registrar: x.Registrar.Name, By: by, Into: into,
					At: e.Now().UTC()})
			}
		}
	}
	if len(made) == 0 {
		return false, nil
	}
	list, err := e.View.Handing()
	if err != nil {
		return false, err
	}
	return true, e.handing(append(list, made...))
}

// HandedOut crosses out what processes were to hand out.
func (e *Edit) HandedOut(by ...string) error {
	list, err := e.View.Handing()
	if err != nil {
		return err
	}
	return e.handing(slices.DeleteFunc(list, func(h Handing) bool { return slices.Contains(by, h.By) }))
}

// Handed reports whether something is still to be handed out, and the hash of what that is (see Secret and Registrar);
// of a key of a client the hash is OfKey and its ID.
func (v View) Handed(h Handing) (open bool, hash string, err error) {
	list, err := v.Handing()
	if err != nil || !slices.ContainsFunc(list, func(x Handing) bool { return x.same(&h) }) {
		return false, "", err
	}
	if h.Registrar != "" {
		r, err := get[*Registrar](v, Key{Registrars, h.Registrar})
		if errors.Is(err, ErrNotFound) {
			return true, "", nil
		}
		return true, r.Hash, err
	}
	s, err := get[*Secret](v, Key{Secrets, h.Secret})
	switch {
	case errors.Is(err, ErrNotFound):
		return true, "", nil
	case err == nil && s.Secret.Key:
		return true, OfKey + s.Secret.ID, nil
	}
	return true, s.Hash, err
}

// OfKey stands before the ID of a key in place of a hash.
const OfKey = "kid "

// NotHanded crosses out one that nobody will hand out, or that lies where it belongs.
func (e *Edit) NotHanded(h Handing) error {
	list, err := e.View.Handing()
	if err != nil {
		return err
	}
	return e.handing(slices.DeleteFunc(list, func(x Handing) bool { return x.same(&h) }))
}

// RetireRegistrar retires a registrar whose token nobody was given. Errors: ErrNotFound.
func (e *Edit) RetireRegistrar(name string) error {
	r, err := get[*Registrar](e.View, Key{Registrars, name})
	if err != nil || r.Registrar.Retired != nil {
		return err
	}
	now := second(e.Now())
	r.Registrar.Retired = &now
	return e.PutRegistrar(r, "registrar.retire")
}

func (e *Edit) handing(list []Handing) error {
	text := ""
	if len(list) > 0 {
		b, err := json.Marshal(list)
		if err != nil {
			return err
		}
		text = string(b)
	}
	return e.SetValue(SettingHanding, text)
}
