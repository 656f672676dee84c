package postgres

import (
	"context"
	"fmt"
	"regexp"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/tables"
	"tressik.example/internal/model"
)

// A role that ledger grant made connects as itself, so that the database knows who acts: what it writes into the
// journal is in its own name, or refused. It can read; or change all but consents that are given; or consent as well.
// Nobody of them can change the journal, or take anything out of it. Whoever owns the tables is none of them: the
// database lets an owner do anything, and who that is stays said.

// querier is what a change of rights needs of its transaction.
type querier interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

// Roles lists what roles may do, by name.
func (l *Ledger) Roles(ctx context.Context) (out []ledger.Role, err error) {
	rows, err := l.pool.Query(ctx, "SELECT role, what FROM may ORDER BY role")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out = []ledger.Role{}
	for rows.Next() {
		var r ledger.Role
		if err := rows.Scan(&r.Name, &r.May); err != nil {
			return nil, translated(err)
		}
		out = append(out, r)
	}
	return out, translated(rows.Err())
}

// roleName is a name that needs no quotes in an address, a password file or a configuration of the server.
func roleName(name string) error {
	if !regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,62}$`).MatchString(name) {
		return fmt.Errorf("%q is no name for a role: write small letters, digits, _ and -, beginning with a letter",
			name)
	}
	return nil
}

// Grant lets a role do something, and makes it where there is none; a password is set where one is given. Errors:
// ledger.ErrMay where this role may not.
func (l *Ledger) Grant(ctx context.Context, name, what, password string) error {
	if err := roleName(name); err != nil {
		return err
	}
	tables, ok := rights()[what]
	if !ok {
		return fmt.Errorf("%q is nothing that can be granted: write read, change or consent", what)
	}
	return l.alter(ctx, "ledger.grant", name, what, func(tx querier) error {
		id := pgx.Identifier{name}.Sanitize()
		if err := ensured(ctx, tx, name); err != nil {
			return err
		}
		if password != "" {
			// a utility statement takes no values; the server quotes this one
			var quoted string
			if err := tx.QueryRow(ctx, "SELECT quote_literal($1::text)", password).Scan(&quoted); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "ALTER ROLE "+id+" PASSWORD "+quoted); err != nil {
				return err
			}
		}
		if err := taken(ctx, tx, id); err != nil {
			return err
		}
		var schema string
		if err := tx.QueryRow(ctx, "SELECT current_schema()").Scan(&schema); err != nil {
			return err
		}
		for _, g := range append(tables, "USAGE ON SCHEMA "+pgx.Identifier{schema}.Sanitize()) {
			if _, err := tx.Exec(ctx, "GRANT "+g+" TO "+id); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "INSERT INTO may (role, what) VALUES ($1, $2) ON CONFLICT (role) DO UPDATE SET what = "+
			"excluded.what", name, what)
		return err
	})
}

// ensured makes a role that can connect, where there is none. Roles belong to the server: another ledger there may make
// the same one meanwhile, and then it is there.
func ensured(ctx context.Context, tx querier, name string) error {
	var there bool
	err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)", name).Scan(&there)
	if err != nil || there {
		return err
	}
	if _, err := tx.Exec(ctx, "SAVEPOINT making"); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "CREATE ROLE "+pgx.Identifier{name}.Sanitize()+" LOGIN")
	switch said(err) {
	case "42710", "23505": // duplicate_object, unique_violation
		_, err = tx.Exec(ctx, "ROLLBACK TO making")
	}
	return err
}

// Revoke takes from a role what it may do here. The role stays: it may be of use elsewhere. Errors: model.ErrNotFound.
func (l *Ledger) Revoke(ctx context.Context, name string) error {
	return l.alter(ctx, "ledger.revoke", name, "", func(tx querier) error {
		done, err := tx.Exec(ctx, "DELETE FROM may WHERE role = $1", name)
		if err != nil {
			return err
		}
		if done.RowsAffected() == 0 {
			return model.ErrNotFound
		}
		return taken(ctx, tx, pgx.Identifier{name}.Sanitize())
	})
}

// taken takes all rights on the ledger's tables from a role.
func taken(ctx context.Context, tx querier, id string) error {
	for _, s := range []string{"ALL ON ALL TABLES IN SCHEMA ", "ALL ON ALL SEQUENCES IN SCHEMA "} {
		var schema string
		if err := tx.QueryRow(ctx, "SELECT current_schema()").Scan(&schema); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "REVOKE "+s+pgx.Identifier{schema}.Sanitize()+" FROM "+id); err != nil {
			return err
		}
	}
	return nil
}

// rights are what each kind of role is granted.
func rights() map[string][]string {
	const seen = "ledger, parties, versions, trusts, keys, persons, subjects, sources, secrets, consents, uses, " +
		"routes, " +
		"arrived, accounts, exports, expectations, accepted, runs, readings, fetched, told, registrars, " +
		"registrations, " +
		"carried, stage_keys, stage_families, stage_codes, stage_revoked, kept, tallies"
	read := []string{"SELECT ON " + seen + ", journal, revision, may, goose_db_version"}
	change := append(read[:1:1], "INSERT, UPDATE, DELETE ON "+seen, "INSERT ON journal", "UPDATE ON revision")
	return map[string][]string{"read": read, "change": change, "consent": change}
}

// alter changes the rights of a role, with an entry in the journal, in one transaction.
func (l *Ledger) alter(ctx context.Context, action, name, what string, f func(querier) error) error {
	if l.role.May != "" {
		return fmt.Errorf("%w grant anything: the owner of the ledger does that", ledger.ErrMay)
	}
	_, err := l.transact(ctx, patience, true, func(r *tables.Reader) (bool, error) {
		b, e := model.Begin(model.View{Reader: r}, l.env)
		if err := b.Change(func(e *model.Edit) error { return e.Granted(action, name, what) }); err != nil {
			return false, err
		}
		return true, r.Write(e.Changes())
	}, f)
	return translated(err)
}

// known finds out which role this process has, and has it act in its name.
func (l *Ledger) known(ctx context.Context) error {
	err := l.pool.QueryRow(ctx, "SELECT session_user::text, coalesce((SELECT what FROM may WHERE role = "+
		"session_user), '')").
		Scan(&l.role.Name, &l.role.May)
	if err == nil && l.role.May != "" {
		l.env.Actor = federation.RolePrefix + l.role.Name
	}
	return translated(err)
}
