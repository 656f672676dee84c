package tables

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"reflect"
	"strings"

	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
)

// Each row has a sum over its columns: 64 bits of a SHA-256. It is no secret and no signature: whoever can write to the
// database on purpose can write a sum that fits, and it is the journal that speaks against them. What the sum finds is
// the edit by hand and the bit that a disk turned round, at the first reading of the row.

// sumOf is the sum over the values of a row, or over what they are read into.
func sumOf(table string, values []any) int64 {
	var room [1024]byte // most rows fit
	b := part(room[:0], len(table))
	b = append(b, table...)
	for _, v := range values {
		b = appendValue(b, v)
	}
	out := sha256.Sum256(b)
	n := int64(binary.BigEndian.Uint64(out[:]))
	if n == 0 { // a row without a sum
		n = 1
	}
	return n
}

// part begins a part of so many bytes: no two rows are one text.
func part(b []byte, n int) []byte { return binary.BigEndian.AppendUint64(b, uint64(n)) }

func appendText[T string | []byte](b []byte, x T) []byte { return append(part(b, len(x)), x...) }

func appendNumber(b []byte, n int64) []byte {
	return binary.BigEndian.AppendUint64(part(b, 8), uint64(n))
}

// appendValue adds a value as the sum is over it: the same for what is written and for what it is read into.
func appendValue(b []byte, v any) []byte {
	switch x := v.(type) {
	case string:
		return appendText(b, x)
	case *string:
		return appendText(b, *x)
	case []byte:
		return appendText(b, x)
	case *[]byte:
		return appendText(b, *x)
	case int64:
		return appendNumber(b, x)
	case *int64:
		return appendNumber(b, *x)
	}
	switch r := reflect.Indirect(reflect.ValueOf(v)); {
	case !r.IsValid():
		return part(b, 0)
	case r.Kind() == reflect.String:
		return appendText(b, r.String())
	case r.Kind() == reflect.Bool && r.Bool():
		return append(part(b, 1), 1)
	case r.Kind() == reflect.Bool:
		return append(part(b, 1), 0)
	case r.CanInt():
		return appendNumber(b, r.Int())
	}
	panic(fmt.Sprintf("%T is in no column", v)) // a mistake of this package, which its tests find
}

// damagedError is a row that is not what was written.
type damagedError struct{ table, name string }

func (e *damagedError) Error() string {
	return fmt.Sprintf("%s: %s in the table %s; another program changed it, or the disk did. `tressik journal "+
		"verify` says "+
		"what it must be, and a backup has it (`tressik ledger restore`)", ledger.ErrDamaged, e.name, e.table)
}

func (*damagedError) Unwrap() error { return ledger.ErrDamaged }

// scan reads the columns of a row, and the sum behind them.
func (r *Reader) scan(table string, s Scanner, to ...any) error {
	var sum int64
	if err := s.Scan(append(to, &sum)...); err != nil {
		return err
	}
	return r.holds(table, sum, to...)
}

// holds compares a sum with what was read.
func (r *Reader) holds(table string, sum int64, read ...any) error {
	if r.reads != nil {
		r.reads(table, read)
	}
	if r.unsealed || sum == sumOf(table, read) {
		return nil
	}
	var name []string
	for _, v := range read[:min(len(read), len(keysIn(table)))] {
		name = append(name, string(textOf(v)))
	}
	return r.damage(&damagedError{table, strings.Join(name, " ")})
}

// textOf is a value as people read it.
func textOf(v any) string {
	r := reflect.Indirect(reflect.ValueOf(v))
	if s := fmt.Sprint(r.Interface()); len(s) < 80 && r.Kind() != reflect.Slice {
		return s
	}
	return "…"
}

// damage tells of a row that is not what was written: whoever looks for such rows notes it and reads on, everybody else
// gets an error.
func (r *Reader) damage(e *damagedError) error {
	if r.damaged == nil {
		return e
	}
	r.damaged(kindIn(e.table), e.name)
	return nil
}

// kindIn is the kind of the records that lie in a table.
func kindIn(table string) model.Kind {
	switch table {
	case "tallies", "journal":
		return model.Kind(table)
	case "accounts":
		return model.Exports
	case "stage_codes", "stage_families", "stage_revoked":
		return model.StageKept
	}
	for _, k := range model.Kinds() {
		t, err := tableOf(k)
		if of, ok := t.(*rows); err == nil && ok && of.table == table {
			return k
		}
	}
	return model.Kind(strings.TrimSuffix(table, "s")) // exports, readings, journal
}

// Lenient is a Reader of the same moment that reads on where a row is not what was written, and tells of it.
func (r *Reader) Lenient(tell func(kind model.Kind, row string)) model.Reader {
	return &Reader{c: r.c, damaged: tell}
}

// Listed are the records that are to be there, of kinds that the journal does not have.
func (r *Reader) Listed() (map[model.Key]bool, error) {
	out := map[model.Key]bool{}
	err := r.each("kept", "SELECT kind, id FROM kept", nil, func(s Scanner) (bool, error) {
		var k model.Key
		err := s.Scan(&k.Kind, &k.ID)
		out[k] = true
		return true, err
	})
	return out, err
}

// passes reports whether a row that cannot be read at all is passed over, by whoever looks for such rows.
func (r *Reader) passes(table string, err error) bool {
	if r.damaged == nil {
		return false
	}
	r.damaged(kindIn(table), "that cannot be read")
	return true
}

// unreadableError is a document in a row that is no record.
type unreadableError struct {
	what string
	err  error
}

func (e *unreadableError) Error() string {
	return fmt.Sprintf("%s (%s): %v", ledger.ErrDamaged, e.what, e.err)
}

func (*unreadableError) Unwrap() error { return ledger.ErrDamaged }

// Sum gives each row its sum, in tables of a version that had none. The transaction is the caller's.
func (r *Reader) Sum() error {
	for _, k := range []model.Kind{model.Parties, model.Versions} { // what lies beside a record is part of its sum
		t, err := tableOf(k)
		if err != nil {
			return err
		}
		if err := r.sumBeside(k, t.(*rows)); err != nil {
			return err
		}
	}
	read := map[string][][]any{}
	old := &Reader{c: r.c, unsealed: true, reads: func(table string, columns []any) {
		row := make([]any, len(columns))
		for i, c := range columns {
			if v := reflect.ValueOf(c); v.Kind() == reflect.Pointer {
				c = v.Elem().Interface()
			}
			row[i] = c
		}
		read[table] = append(read[table], row)
	}}
	for _, k := range model.Kinds() {
		for x, err := range (model.View{Reader: old}).Find(model.Query{Kind: k}) {
			if err != nil {
				return err
			}
			if k.Journaled() {
				continue
			}
			if err := r.list(x.Key()); err != nil {
				return err
			}
		}
	}
	if err := r.c.Exec("DELETE FROM tallies"); err != nil {
		return err
	}
	tally := people.CensusOf(nil)
	for p, err := range (model.View{Reader: &Reader{c: r.c, unsealed: true}}).EachPerson() {
		if err != nil {
			return err
		}
		tally.Count(&p, 1)
	}
	if err := r.tally(&tally); err != nil {
		return err
	}
	for table, list := range read {
		keys := keysIn(table)
		for _, row := range list {
			if err := r.c.Exec("UPDATE "+table+" SET sum = ? WHERE "+strings.Join(keys, " = ? AND ")+" = ?",
				append([]any{sumOf(table, row)}, row[:len(keys)]...)...); err != nil {
				return err
			}
		}
	}
	var seqs, of []int64
	head := ""
	old.reads = nil
	for e, err := range old.Entries(model.Filter{}) {
		if err != nil {
			return err
		}
		seqs = append(seqs, e.Seq)
		of = append(of, sumOf("journal", entryValues(e)))
		head = model.Head(e.Seq, e.Hash)
	}
	if was, err := (model.View{Reader: r}).Value(model.SettingHead); err != nil || was != "" {
		head = was // where the journal was cut off it says so
	}
	if err := settings().put(r, model.Change{After: &model.Setting{Name: model.SettingHead, Value: head}}); err != nil {
		return err
	}
	for i, seq := range seqs {
		if err := r.c.Exec("UPDATE journal SET sum = ? WHERE seq = ?", of[i], seq); err != nil {
			return err
		}
	}
	return r.c.Flush()
}

// sumBeside gives what lies beside records its hash.
func (r *Reader) sumBeside(k model.Kind, t *rows) error {
	old := &Reader{c: r.c, unsealed: true}
	var keys []model.Key
	for x, err := range (model.View{Reader: old}).Find(model.Query{Kind: k}) {
		if err != nil {
			return err
		}
		keys = append(keys, x.Key())
	}
	for _, key := range keys {
		doc, err := old.Document(key)
		if err != nil {
			return err
		}
		if err := r.c.Exec("UPDATE "+t.table+" SET beside = ? WHERE "+t.key, append([]any{besideOf(key, doc)},
			t.parts(key)...)...); err != nil {
			return err
		}
	}
	return nil
}

// keysIn are the columns by which a row of a table is known, which are its first.
func keysIn(table string) []string {
	if table == "accounts" {
		return []string{"app", "line"}
	}
	for _, k := range model.Kinds() {
		t, err := tableOf(k)
		of, ok := t.(*rows)
		if err != nil || !ok || of.table != table {
			continue
		}
		columns := strings.Split(of.columns, ", ")
		return columns[:strings.Count(of.keys, ",")+1]
	}
	return []string{map[string]string{"exports": "app", "readings": "party", "stage_codes": "hash",
		"stage_families": "id",
		"stage_revoked":  "jti"}[table]}
}
