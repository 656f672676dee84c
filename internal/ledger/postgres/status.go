package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"tressik.example/internal/ledger"
)

// Status is how the database is kept, and which connections of Tressik are open on it but those of this process.
func (l *Ledger) Status(ctx context.Context) (s ledger.Status, err error) {
	err = l.pool.QueryRow(ctx, `SELECT 'PostgreSQL ' || split_part(current_setting('server_version'), ' ', 1),
		(SELECT coalesce(sum(pg_total_relation_size(c.oid)), 0)::bigint FROM pg_class c
			WHERE c.relnamespace = current_schema()::regnamespace AND c.relkind = 'r')`).Scan(&s.Engine, &s.Bytes)
	if err != nil {
		return s, translated(err)
	}
	if s.Schema, err = schemaOf(ctx, l.pool); err != nil {
		return s, err
	}
	rows, err := l.pool.Query(ctx, `SELECT pid, coalesce(usename, ''), application_name,
		coalesce(host(client_addr), ''), backend_start FROM pg_stat_activity
		WHERE datname = current_database() AND application_name LIKE 'tressik%' AND application_name <>
			current_setting('application_name') ORDER BY backend_start`)
	if err != nil {
		return s, translated(err)
	}
	defer rows.Close()
	s.Open = []ledger.Holder{}
	seen := map[string]bool{} // a process has several connections
	for rows.Next() {
		var h ledger.Holder
		var name string
		var pid int
		if err := rows.Scan(&pid, &h.Who, &name, &h.From, &h.Since); err != nil {
			return s, translated(err)
		}
		if seen[name] {
			continue
		}
		seen[name] = true
		h.Process, h.What, h.Since = processOf(name), "tressik", h.Since.UTC()
		s.Open = append(s.Open, h)
	}
	return s, translated(rows.Err())
}

// processOf is the number of a process out of the name by which its connections are known.
func processOf(name string) int {
	_, rest, _ := strings.Cut(name, " ")
	text, _, _ := strings.Cut(rest, "@")
	n, _ := strconv.Atoi(text)
	return n
}

// Sound asks whether the list of migrations is what was written, and whether roles may do what the journal says.
// PostgreSQL looks after its pages itself, where its data checksums are on.
func (l *Ledger) Sound(ctx context.Context) (out []string, err error) {
	var most int
	err = l.pool.QueryRow(ctx, "SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&most)
	if err != nil {
		return nil, translated(err)
	}
	if most != schema {
		out = append(out, "the list of migrations is not what was written")
	}
	roles, err := l.Roles(ctx)
	if err != nil {
		return nil, err
	}
	granted := map[string]string{}
	words, err := l.column(ctx, "SELECT after FROM journal WHERE action IN ('ledger.grant', 'ledger.revoke') "+
		"ORDER BY seq")
	if err != nil {
		return nil, err
	}
	for _, text := range words {
		var r struct{ Role, May string }
		if json.Unmarshal([]byte(text), &r) == nil {
			granted[r.Role] = r.May
		}
	}
	for _, r := range roles {
		if granted[r.Name] != r.May {
			out = append(out, fmt.Sprintf("the role %s may %s, and nobody granted that", r.Name, r.May))
		}
	}
	loose, err := l.column(ctx, `SELECT rolname::text FROM pg_roles WHERE NOT rolsuper AND rolname !~ '^pg_'
		AND has_table_privilege(rolname, 'journal', 'SELECT') AND rolname NOT IN (SELECT role FROM may)
		AND rolname <> (SELECT tableowner FROM pg_tables WHERE tablename = 'journal'
			AND schemaname = current_schema())`)
	for _, name := range loose {
		out = append(out, fmt.Sprintf("the role %s has rights in the ledger, and is not listed", name))
	}
	return out, err
}

// column reads one column of texts.
func (l *Ledger) column(ctx context.Context, query string) (out []string, err error) {
	rows, err := l.pool.Query(ctx, query)
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return nil, translated(err)
		}
		out = append(out, s)
	}
	return out, translated(rows.Err())
}
