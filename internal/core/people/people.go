// Package people holds persons and groups and reads them from LDIF (RFC 2849) and CSV (RFC 4180).
package people

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"tressik.example/internal/core/finding"
)

// Person is one person with the attributes that claims are made of.
type Person struct {
	ID         string              `json:"id"` // uid, else mail, else the first RDN value of the DN
	DN         string              `json:"dn,omitempty"`
	Attributes map[string][]string `json:"attributes"`
	Groups     []string            `json:"groups"`
	// name of the provider at which alone they sign in; "" is any
	Home string `json:"home,omitempty"`
	// name of the source that they came from; "" is a load by hand
	Source string `json:"source,omitempty"`
	// what pseudonyms are made from; it never changes, whatever the person is called
	Key string `json:"-"`
}

// SubjectKey is the person's own part of pseudonyms: the key that the ledger keeps, or the ID of somebody it does not
// know.
func (p *Person) SubjectKey() string {
	if p.Key != "" {
		return p.Key
	}
	return p.ID
}

// UUID is the person's entryUUID (RFC 4530), by which somebody is known again under another name; "" if there is none.
func (p *Person) UUID() string {
	if v := p.Attributes["entryUUID"]; len(v) > 0 {
		return v[0]
	}
	return ""
}

// Name returns a name to show: displayName, cn, or given name and surname, else the ID.
func (p *Person) Name() string {
	for _, a := range []string{"displayName", "cn"} {
		if v := p.Attributes[a]; len(v) > 0 {
			return v[0]
		}
	}
	if g, s := p.Attributes["givenName"], p.Attributes["sn"]; len(g) > 0 && len(s) > 0 {
		return g[0] + " " + s[0]
	}
	return p.ID
}

// In reports whether the person is in a group; letter case does not count.
func (p *Person) In(group string) bool {
	for _, g := range p.Groups {
		if strings.EqualFold(g, group) {
			return true
		}
	}
	return false
}

// Holds reports whether each of some words stands in the person's ID, one of their values or groups; letter case does
// not count.
func (p *Person) Holds(words ...string) bool {
	for _, w := range words {
		w = strings.ToLower(w)
		in := func(v string) bool { return strings.Contains(strings.ToLower(v), w) }
		hit := in(p.ID) || slices.ContainsFunc(p.Groups, in)
		for _, list := range p.Attributes {
			hit = hit || slices.ContainsFunc(list, in)
		}
		if !hit {
			return false
		}
	}
	return true
}

// Directory is what was read: persons in order of their ID.
type Directory struct {
	Persons []Person
	Skipped int      // entries that are neither persons nor groups, such as organizational units
	LeftOut []string // the attributes that hold secrets, see HoldsSecret, which nobody has here
}

// Errors that callers test for. A *ReadError wraps one.
var (
	ErrSyntax    = errors.New("cannot be read")
	ErrDuplicate = errors.New("the same person twice")
	ErrNobody    = errors.New("holds no person")
	ErrPassword  = errors.New("the name or the password is wrong")
)

// ReadError says on which line of the input something is wrong.
type ReadError struct {
	Err    error
	Line   int
	Detail string
}

func (e *ReadError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%v: %s", e.Err, e.Detail)
	}
	return fmt.Sprintf("line %d %v: %s", e.Line, e.Err, e.Detail)
}

func (e *ReadError) Unwrap() error { return e.Err }

func canonicalNames() map[string]string {
	out := map[string]string{}
	for _, n := range strings.Fields(`uid cn sn givenName displayName mail telephoneNumber mobile title ou o l st street
		postalCode description employeeNumber employeeType departmentNumber preferredLanguage manager memberOf member
		objectClass uniqueMember memberUid eduPersonPrincipalName eduPersonAffiliation eduPersonScopedAffiliation
		eduPersonEntitlement eduPersonUniqueId eduPersonOrcid eduPersonAssurance eduPersonPrimaryAffiliation
		schacHomeOrganization schacPersonalUniqueCode labeledURI jpegPhoto userPassword entryUUID
		isMemberOf userPrincipalName`) {
		out[strings.ToLower(n)] = n
	}
	return out
}

// Read takes LDIF, CSV or JSON, told apart by the first line that counts, and returns persons with their groups.
func Read(b []byte) (*Directory, error) { return ReadAs(b, nil) }

// ReadAs reads as Read does. columns says which attribute a column of CSV is, by its heading; what it does not name has
// the name of an attribute, or a heading that people usually give to one.
// Errors: ErrColumn, and those of Read.
func ReadAs(b []byte, columns map[string]string) (*Directory, error) {
	b, err := Text(b)
	if err != nil {
		return nil, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		read := func(b []byte) (*Directory, error) { return readCSV(b, columns) }
		switch l := strings.ToLower(line); {
		case line[0] == '[' || line[0] == '{':
			read = ReadJSON
		case strings.HasPrefix(l, "version:"), strings.HasPrefix(l, "dn:"):
			read = ReadLDIF
		default:
			return read(b)
		}
		if len(columns) > 0 {
			return nil, finding.Errorf("%s: %w: this is no table but LDIF or JSON, which names its attributes",
				finding.FieldMap, ErrColumn)
		}
		return read(b)
	}
	return nil, &ReadError{Err: ErrNobody, Detail: "the file is empty"}
}

// entry is one LDIF record.
type entry struct {
	line  int
	dn    string
	attrs map[string][]string
}

// Entry is one content record of LDIF, whatever it is.
type Entry struct {
	Line       int
	DN         string
	Attributes map[string][]string
}

// Entries reads LDIF content records (RFC 2849) as they are. Errors: a *ReadError.
func Entries(b []byte) ([]Entry, error) {
	list, err := ldifEntries(string(b))
	if err != nil {
		return nil, err
	}
	out := make([]Entry, len(list))
	for i, e := range list {
		out[i] = Entry{e.line, e.dn, e.attrs}
	}
	return out, nil
}

// ReadLDIF reads LDIF content records (RFC 2849): folded lines, comments, base64 values. Change records and values by
// URL are refused. Persons are entries with a uid, mail or person class; groups are entries with member, uniqueMember
// or memberUid.
func ReadLDIF(b []byte) (*Directory, error) {
	entries, err := ldifEntries(string(b))
	if err != nil {
		return nil, err
	}
	for i := range entries {
		for _, list := range entries[i].attrs {
			for j := range list {
				if !utf8.ValidString(list[j]) { // a picture, a certificate
					list[j] = base64.StdEncoding.EncodeToString([]byte(list[j]))
				}
			}
		}
	}
	return fromEntries(entries, "")
}

// FromEntries makes persons and groups of the entries of a directory. Persons are named by an attribute; "" is uid,
// else mail. Values that are no UTF-8 text become base64. Errors: a *ReadError, which has no lines here.
func FromEntries(list []Entry, id string) (*Directory, error) {
	names := canonicalNames()
	entries := make([]entry, len(list))
	for i, e := range list {
		entries[i] = entry{e.Line, e.DN, make(map[string][]string, len(e.Attributes))}
		for name, values := range e.Attributes {
			base, _, _ := strings.Cut(name, ";")
			if n, ok := names[strings.ToLower(base)]; ok {
				base = n
			}
			for _, v := range values {
				if !utf8.ValidString(v) {
					v = base64.StdEncoding.EncodeToString([]byte(v))
				}
				entries[i].attrs[base] = append(entries[i].attrs[base], v)
			}
		}
	}
	return fromEntries(entries, id)
}

func fromEntries(entries []entry, id string) (*Directory, error) {
	d := &Directory{}
	byDN, byUID := map[string]int{}, map[string]int{}
	lines := map[string]int{}
	var groups []entry
	for _, e := range entries {
		switch {
		case len(e.attrs["member"])+len(e.attrs["uniqueMember"])+len(e.attrs["memberUid"]) > 0 || isGroup(e):
			groups = append(groups, e)
		case len(e.attrs["uid"]) > 0 || isPerson(e) || id != "" && len(e.attrs[id]) > 0:
			p := Person{DN: e.dn, Attributes: e.attrs, Groups: []string{}}
			if p.ID = personID(e); id != "" {
				if len(e.attrs[id]) == 0 || e.attrs[id][0] == "" {
					d.Skipped++
					continue
				}
				p.ID = e.attrs[id][0]
			}
			if first, ok := lines[strings.ToLower(p.ID)]; ok {
				return nil, &ReadError{ErrDuplicate, e.line, fmt.Sprintf("%s stands on line %d as well", p.ID, first)}
			}
			lines[strings.ToLower(p.ID)] = e.line
			for _, g := range e.attrs["memberOf"] {
				p.Groups = appendNew(p.Groups, rdnValue(g))
			}
			delete(p.Attributes, "memberOf")
			byDN[normalDN(e.dn)] = len(d.Persons)
			byUID[strings.ToLower(p.ID)] = len(d.Persons)
			d.Persons = append(d.Persons, p)
		default:
			d.Skipped++
		}
	}
	inside := map[string]int{}
	for i := range groups {
		inside[normalDN(groups[i].dn)] = i
	}
	for i := range groups {
		name := rdnValue(groups[i].dn)
		if cn := groups[i].attrs["cn"]; len(cn) > 0 {
			name = cn[0]
		}
		seen := map[int]bool{}
		var members func(g int) // of the group, and of the groups in it
		members = func(g int) {
			if seen[g] {
				return
			}
			seen[g] = true
			for _, m := range slices.Concat(groups[g].attrs["member"], groups[g].attrs["uniqueMember"]) {
				if p, ok := byDN[normalDN(m)]; ok {
					d.Persons[p].Groups = appendNew(d.Persons[p].Groups, name)
				} else if nested, ok := inside[normalDN(m)]; ok {
					members(nested)
				}
			}
			for _, m := range groups[g].attrs["memberUid"] {
				if p, ok := byUID[strings.ToLower(m)]; ok {
					d.Persons[p].Groups = appendNew(d.Persons[p].Groups, name)
				}
			}
		}
		members(i)
	}
	return d.finish()
}

func (d *Directory) finish() (*Directory, error) {
	secrets := Withheld{}
	for i := range d.Persons {
		secrets.From(d.Persons[i].Attributes)
	}
	d.LeftOut = secrets.Names()
	if len(d.Persons) == 0 {
		return nil, &ReadError{Err: ErrNobody, Detail: "no entry is a person"}
	}
	sort.Slice(d.Persons, func(i, j int) bool { return d.Persons[i].ID < d.Persons[j].ID })
	known := map[string]string{}
	for i := range d.Persons {
		p := &d.Persons[i]
		for _, name := range append([]string{p.ID}, p.Groups...) {
			if strings.ContainsFunc(name, unicode.IsControl) {
				return nil, &ReadError{Err: ErrSyntax, Detail: fmt.Sprintf("%q, an ID of a person or a name of a "+
					"group of %q, holds a control character; mend it where it comes from", clip(name), clip(p.ID))}
			}
		}
		id := strings.ToLower(p.UUID())
		if other, twice := known[id]; twice {
			return nil, &ReadError{Err: ErrDuplicate, Detail: fmt.Sprintf("%s and %s have one entryUUID, %s: a "+
				"directory "+
				"gives each entry its own, so one of them is no record of it", other, p.ID, clip(p.UUID()))}
		}
		if id != "" {
			known[id] = p.ID
		}
	}
	for i := range d.Persons {
		sort.Strings(d.Persons[i].Groups)
	}
	return d, nil
}

func appendNew(list []string, v string) []string {
	for _, x := range list {
		if strings.EqualFold(x, v) {
			return list
		}
	}
	return append(list, v)
}

func hasClass(e entry, names ...string) bool {
	for _, c := range e.attrs["objectClass"] {
		for _, n := range names {
			if strings.EqualFold(c, n) {
				return true
			}
		}
	}
	return false
}

func isPerson(e entry) bool {
	return hasClass(e, "person", "inetOrgPerson", "organizationalPerson", "eduPerson", "account", "posixAccount")
}

func isGroup(e entry) bool {
	return hasClass(e, "groupOfNames", "groupOfUniqueNames", "posixGroup", "groupOfMembers")
}

func personID(e entry) string {
	for _, a := range []string{"uid", "mail"} {
		if v := e.attrs[a]; len(v) > 0 && v[0] != "" {
			return v[0]
		}
	}
	return rdnValue(e.dn)
}

// rdnValue returns the value of the first RDN (RFC 4514), else the text itself.
func rdnValue(dn string) string {
	_, v, ok := strings.Cut(dn, "=")
	if !ok {
		return dn
	}
	var out strings.Builder
	for i := 0; i < len(v); i++ {
		if v[i] == '\\' && i+1 < len(v) {
			i++
			out.WriteByte(v[i])
			continue
		}
		if v[i] == ',' || v[i] == '+' {
			break
		}
		out.WriteByte(v[i])
	}
	return strings.TrimSpace(out.String())
}

func normalDN(dn string) string {
	parts := strings.Split(strings.ToLower(dn), ",")
	for i, p := range parts {
		k, v, _ := strings.Cut(p, "=")
		parts[i] = strings.TrimSpace(k) + "=" + strings.TrimSpace(v)
	}
	return strings.Join(parts, ",")
}

func ldifEntries(text string) ([]entry, error) {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	raw := strings.Split(text, "\n")
	names := canonicalNames()
	var out []entry
	var cur *entry
	flush := func() {
		if cur != nil {
			out = append(out, *cur)
			cur = nil
		}
	}
	for i := 0; i < len(raw); i++ {
		line, at := raw[i], i+1
		if i+1 < len(raw) && strings.HasPrefix(raw[i+1], " ") && line != "" {
			var folded strings.Builder // a picture is a value of many thousand lines
			folded.WriteString(line)
			for i+1 < len(raw) && strings.HasPrefix(raw[i+1], " ") {
				i++
				folded.WriteString(raw[i][1:])
			}
			line = folded.String()
		}
		switch {
		case line == "":
			flush()
			continue
		case strings.HasPrefix(line, "#"):
			continue
		case strings.HasPrefix(line, " "):
			return nil, &ReadError{ErrSyntax, at, "a folded line continues nothing"}
		case line == "-":
			return nil, &ReadError{ErrSyntax, at, "change records are not read; export plain entries"}
		}
		key, val, ok := strings.Cut(line, ":")
		if !ok || key == "" {
			return nil, &ReadError{ErrSyntax, at, fmt.Sprintf("%q is no `attribute: value`", clip(line))}
		}
		value, err := ldifValue(val)
		if err != nil {
			return nil, &ReadError{ErrSyntax, at, fmt.Sprintf("value of %s: %v", key, err)}
		}
		base, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(key)), ";") // attribute options such as ;lang-en
		switch {
		case base == "version" && cur == nil:
			if value != "1" {
				return nil, &ReadError{ErrSyntax, at, "LDIF version " + clip(value) + "; only 1 is known"}
			}
		case base == "dn":
			flush()
			cur = &entry{line: at, dn: value, attrs: map[string][]string{}}
		case cur == nil:
			return nil, &ReadError{ErrSyntax, at, fmt.Sprintf("%s stands before any dn:", clip(key))}
		case base == "changetype":
			return nil, &ReadError{ErrSyntax, at, "change records are not read; export plain entries"}
		default:
			name := base
			if n, ok := names[base]; ok {
				name = n
			} else if k, _, _ := strings.Cut(strings.TrimSpace(key), ";"); k != "" {
				name = k
			}
			cur.attrs[name] = append(cur.attrs[name], value)
		}
	}
	flush()
	return out, nil
}

func clip(s string) string {
	if len(s) > 40 {
		return s[:40] + "…"
	}
	return s
}

func ldifValue(val string) (string, error) {
	switch {
	case strings.HasPrefix(val, ":"):
		b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(val[1:]))
		if err != nil {
			return "", fmt.Errorf("invalid base64: %v", err)
		}
		return string(b), nil
	case strings.HasPrefix(val, "<"):
		return "", errors.New("values by URL are not fetched; put the value itself into the file")
	}
	return strings.TrimLeft(val, " "), nil
}

// ReadCSV reads a table whose first row names the attributes. A column groups (or memberOf) holds the groups; it and
// cells with several values are split at ";".
func ReadCSV(b []byte) (*Directory, error) { return readCSV(b, nil) }

// usualHeadings are the words by which tables that people keep call attributes, in small letters and digits alone.
func usualHeadings() map[string]string {
	out := map[string]string{}
	for attribute, words := range map[string]string{
		"uid":  "username user login loginname userid account accountname samaccountname",
		"mail": "email emailaddress mailaddress workemail", "givenName": "firstname forename",
		"sn": "lastname surname familyname", "displayName": "fullname name",
		"telephoneNumber": "phone phonenumber telephone",
		"title":           "jobtitle position", "ou": "department unit", "o": "organisation organization company",
		"employeeNumber": "employeeid staffnumber staffid", "groups": "group"} {
		for _, w := range strings.Fields(words) {
			out[w] = attribute
		}
	}
	return out
}

// ErrColumn means that a column was named that is not there.
var ErrColumn = errors.New("there is no such column")

// attributes are what the columns of a table are, by their headings. A usual heading gives way to a column that has the
// attribute's own name. Errors: ErrColumn, for a heading of columns that is not there, and ErrSyntax, for one that is
// there twice.
func attributes(head []string, columns map[string]string) ([]string, error) {
	plain := func(s string) string {
		return strings.Map(func(r rune) rune {
			if unicode.IsLetter(r) || unicode.IsDigit(r) {
				return unicode.ToLower(r)
			}
			return -1
		}, s)
	}
	names, usual := canonicalNames(), usualHeadings()
	out, taken := make([]string, len(head)), map[string]bool{}
	for i, h := range head {
		head[i] = strings.TrimSpace(h)
		if as := columns[head[i]]; as != "" {
			out[i] = as
		} else if n, ok := names[strings.ToLower(head[i])]; ok {
			out[i] = n
		} else if strings.EqualFold(head[i], "groups") {
			out[i] = "groups"
		}
		taken[out[i]] = true
	}
	for want := range columns {
		if !slices.Contains(head, want) {
			return nil, finding.Errorf("%s %q: %w; the first row is: %s", finding.FieldMap, want, ErrColumn,
				clip(strings.Join(head, ", ")))
		}
	}
	seen := map[string]bool{}
	for i, h := range head {
		if out[i] == "" {
			if as := usual[plain(h)]; as != "" && !taken[as] {
				out[i], taken[as] = as, true
			} else {
				out[i] = h
			}
		}
		if out[i] == "" || seen[out[i]] {
			return nil, &ReadError{ErrSyntax, 1, fmt.Sprintf("column %d: name %q is empty or there twice", i+1, out[i])}
		}
		seen[out[i]] = true
	}
	return out, nil
}

func readCSV(b []byte, columns map[string]string) (*Directory, error) {
	r := csv.NewReader(bytes.NewReader(b))
	r.Comment = '#'
	r.Comma = Comma(b)
	r.TrimLeadingSpace = r.Comma != '\t' // which would be taken for space
	sep := ";"
	if r.Comma == ';' {
		sep = "|"
	}
	head, err := r.Read()
	if err != nil {
		return nil, csvError(err)
	}
	headings := slices.Clone(head)
	if head, err = attributes(headings, columns); err != nil {
		return nil, err
	}
	idCol := -1
	for i, h := range head {
		if h == "uid" || idCol < 0 && h == "mail" {
			idCol = i
		}
	}
	if idCol < 0 {
		return nil, &ReadError{ErrSyntax, 1,
			"the first row must name the columns, and one of them must be uid or mail; it is: " +
				clip(strings.Join(headings, ", "))}
	}
	d := &Directory{}
	seen := map[string]int{}
	for {
		row, err := r.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, csvError(err)
		}
		line, _ := r.FieldPos(0)
		p := Person{ID: strings.TrimSpace(row[idCol]), Attributes: map[string][]string{}, Groups: []string{}}
		if p.ID == "" {
			return nil, &ReadError{ErrSyntax, line, "column " + head[idCol] + " is empty"}
		}
		if first, ok := seen[strings.ToLower(p.ID)]; ok {
			return nil, &ReadError{ErrDuplicate, line, fmt.Sprintf("%s stands on line %d as well", p.ID, first)}
		}
		seen[strings.ToLower(p.ID)] = line
		for i, cell := range row {
			for _, v := range strings.Split(cell, sep) {
				if v = strings.TrimSpace(v); v == "" {
					continue
				}
				if head[i] == "groups" || head[i] == "memberOf" {
					p.Groups = appendNew(p.Groups, v)
				} else {
					p.Attributes[head[i]] = append(p.Attributes[head[i]], v)
				}
			}
		}
		d.Persons = append(d.Persons, p)
	}
	return d.finish()
}

// Comma is what parts the columns of a table in text: a comma, or where its first row has more of them a semicolon or a
// tab.
func Comma(b []byte) rune {
	first, _, _ := bytes.Cut(b, []byte("\n"))
	most, n := ',', bytes.Count(first, []byte(","))
	for _, c := range ";\t" {
		if k := bytes.Count(first, []byte(string(c))); k > n {
			most, n = c, k
		}
	}
	return most
}

// CSVError says in words what is wrong with a table in text. It is a *ReadError, or io.EOF of one without rows.
func CSVError(err error) error {
	var pe *csv.ParseError
	switch {
	case errors.Is(err, io.EOF):
		return err
	case !errors.As(err, &pe):
		return &ReadError{Err: ErrSyntax, Detail: err.Error()}
	case errors.Is(err, csv.ErrFieldCount):
		return &ReadError{ErrSyntax, pe.Line, "it has more or fewer values than the first row has names"}
	case errors.Is(err, csv.ErrQuote):
		return &ReadError{ErrSyntax, pe.Line, `a value in quotes does not end with one, or goes on behind it; ` +
			`inside of one a quote is written twice`}
	case errors.Is(err, csv.ErrBareQuote):
		return &ReadError{ErrSyntax, pe.Line, "a quote stands inside a value that does not begin with one"}
	}
	return &ReadError{ErrSyntax, pe.Line, pe.Err.Error()}
}

func csvError(err error) error {
	if errors.Is(err, io.EOF) {
		return &ReadError{Err: ErrNobody, Detail: "the file is empty"}
	}
	return CSVError(err)
}

// SignsInAt reports whether a person is one of a provider's people: of an own provider everybody is who signs in at no
// other one alone, of a foreign one those alone of whom it was said.
func (p *Person) SignsInAt(provider string, own bool) bool {
	return p.Home == provider || own && p.Home == ""
}
