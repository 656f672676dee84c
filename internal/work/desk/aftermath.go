package desk

import "tressik.example/internal/core/federation"

// After is what goes on behind something of a trust that ended. Errors: *model.UnknownError.
func (d *Desk) After(trust string, asks []federation.Ask, signedIn bool) (out federation.Aftermath, err error) {
	t, app, provider, err := d.Trust(trust)
	if err != nil {
		return out, err
	}
	return t.After(app, provider, asks, signedIn, d.Now()), nil
}

// AfterPeople is what goes on behind people who are gone from the ledger.
func (d *Desk) AfterPeople() (out federation.Aftermath, err error) {
	trusts, err := d.Trusts()
	if err != nil {
		return out, err
	}
	return federation.AfterPeople(trusts, func(name string) *federation.Party {
		p, err := d.AnyParty(name)
		if err != nil {
			return nil
		}
		return p
	}, d.Now()), nil
}
