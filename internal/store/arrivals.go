package store

import (
	"encoding/json"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
)

// Arrived is who came in through a trust as whom.
type Arrived struct{ Trust, Subject, Person string }

// Arrivals lists the routes by domain, and who came in from upstream.
func Arrivals(l *Ledger) (routes []federation.Route, came []Arrived, err error) {
	rows, err := l.db.Query("SELECT domain, trust FROM routes ORDER BY domain")
	if err != nil {
		return nil, nil, translated(err)
	}
	defer rows.Close()
	routes = []federation.Route{}
	for rows.Next() {
		var r federation.Route
		if err := rows.Scan(&r.Domain, &r.Trust); err != nil {
			return nil, nil, err
		}
		routes = append(routes, r)
	}
	if err := rows.Err(); err != nil {
		return nil, nil, translated(err)
	}
	list, err := l.db.Query("SELECT trust, subject, person FROM arrived")
	if err != nil {
		return nil, nil, translated(err)
	}
	defer list.Close()
	for list.Next() {
		var a Arrived
		if err := list.Scan(&a.Trust, &a.Subject, &a.Person); err != nil {
			return nil, nil, err
		}
		came = append(came, a)
	}
	return routes, came, translated(list.Err())
}

// PutRoute says where people of a domain sign in.
func (tx *Tx) PutRoute(r federation.Route) error {
	if _, err := tx.tx.Exec("INSERT OR REPLACE INTO routes (domain, trust) VALUES (?, ?)", r.Domain,
		r.Trust); err != nil {
		return err
	}
	return tx.note("route.add", "", r.Trust, nil, r)
}

// RemoveRoute takes a route away. Errors: ErrNotFound.
func (tx *Tx) RemoveRoute(domain string) error {
	res, err := tx.tx.Exec("DELETE FROM routes WHERE domain = ?", domain)
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return ErrNotFound
	}
	return tx.note("route.remove", "", "", map[string]string{"domain": domain}, nil)
}

// Bind notes as whom a subject of an upstream provider comes in; how says how it came to be.
func (tx *Tx) Bind(a Arrived, how string) error {
	_, err := tx.tx.Exec("INSERT OR REPLACE INTO arrived (trust, subject, person, at) VALUES (?, ?, ?, ?)", a.Trust,
		a.Subject, a.Person,
		text(tx.l.Now()))
	if err != nil {
		return err
	}
	return tx.note("people.arrive", "", a.Trust, nil, map[string]string{"person": a.Person, "how": how})
}

// PutPerson stores one person, and returns them with their key for pseudonyms.
func (tx *Tx) PutPerson(p *people.Person) (*people.Person, error) {
	doc, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	if _, err := tx.tx.Exec("INSERT INTO persons VALUES (?, ?) ON CONFLICT (id) DO UPDATE SET doc = excluded.doc", p.ID,
		string(doc)); err != nil {
		return nil, err
	}
	if err := tx.keepSubject(p); err != nil {
		return nil, err
	}
	return loadPerson(tx.tx.QueryRow(personQuery+" WHERE p.id = ?", p.ID))
}
