package postgres

import (
	"context"
	"strconv"
	"strings"

	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/tables"
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

// Sound asks whether the list of migrations is what was written. PostgreSQL looks after its pages itself, where its
// data checksums are on.
func (l *Ledger) Sound(ctx context.Context) ([]string, error) {
	var most int
	err := l.pool.QueryRow(ctx, "SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&most)
	if err == nil && most != tables.Schema {
		return []string{"the list of migrations is not what was written"}, nil
	}
	return nil, translated(err)
}
