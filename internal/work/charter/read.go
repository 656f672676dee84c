package charter

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/saml"
)

// Max is how large a charter may be, in bytes.
const Max = 64 << 20

// ErrCharter means that a file holds no charter that can be used; an *Error says where.
var ErrCharter = errors.New("no charter that can be used")

// Error says where in a charter something is wrong, and what. Line counts from 1; 0 is not known.
type Error struct {
	Line int
	Path string // such as trusts.nightlog@ridge.admits
	Err  error
}

func (e *Error) Error() string {
	text := finding.Say(e.Err, key)
	if e.Path != "" {
		text = e.Path + ": " + text
	}
	if e.Line > 0 {
		text = fmt.Sprintf("line %d: %s", e.Line, text)
	}
	return text
}

// Is and As look into the error. It does not unwrap: its text has the keys of the file already, where a command's would
// have flags.
func (e *Error) Is(target error) bool { return target == ErrCharter || errors.Is(e.Err, target) }

// As looks into the error.
func (e *Error) As(target any) bool { return errors.As(e.Err, target) }

// key is what a field is called in a charter.
func key(f finding.Field) string {
	words := strings.Split(string(f), "-")
	for i, w := range words {
		switch {
		case i == 0:
		case w == "id" || w == "uri" || w == "acs":
			words[i] = strings.ToUpper(w)
		default:
			words[i] = strings.ToUpper(w[:1]) + w[1:]
		}
	}
	return strings.Join(words, "")
}

// File is a charter as it was read, with where its parts stand.
type File struct {
	Charter
	lines map[string]int // by path

	anchors map[string]ast.Node               // what was named with & up to here
	types   map[reflect.Type]map[string]field // fields by key, of the structs that were met
}

// at puts the place of a part into an error.
func (f *File) at(path string, err error) error {
	var e *Error
	if err == nil || errors.As(err, &e) {
		return err
	}
	line := 0
	for p := path; line == 0 && p != ""; {
		line = f.lines[p]
		p = p[:max(0, strings.LastIndexByte(p, '.'))]
	}
	return &Error{Line: line, Path: path, Err: err}
}

func (f *File) errorf(path, format string, args ...any) error {
	return f.at(path, fmt.Errorf(format, args...))
}

// Read reads a charter in YAML or JSON, with the values of an environment by name; they go before those that the
// charter has itself. Errors: *Error.
func Read(text []byte, values map[string]string) (*File, error) {
	if len(text) > Max {
		return nil, &Error{Err: fmt.Errorf("it is larger than %d MB", Max>>20)}
	}
	if !utf8.Valid(text) {
		return nil, &Error{Err: fmt.Errorf("it is no text in UTF-8; %s", begins)}
	}
	doc, err := parser.ParseBytes(text, 0)
	if err != nil {
		e := parsed(err)
		if !bytes.Contains(text, []byte("charter")) {
			e.Err = fmt.Errorf("it is no charter: %w; %s", e.Err, begins)
		}
		return nil, e
	}
	f := &File{lines: map[string]int{}, anchors: map[string]ast.Node{}, types: map[reflect.Type]map[string]field{}}
	switch n := len(doc.Docs); {
	case n == 0, n == 1 && doc.Docs[0].Body == nil:
		return nil, &Error{Err: fmt.Errorf("it is empty; %s", begins)}
	case n > 1:
		return nil, &Error{Err: fmt.Errorf("it holds %d documents; a charter is one", n)}
	}
	body := doc.Docs[0].Body
	if !slices.ContainsFunc(entries(body), func(e *ast.MappingValueNode) bool { return keyText(e.Key) == "charter" }) {
		return nil, &Error{Err: fmt.Errorf("it is no charter; %s", begins)}
	}
	all := map[string]string{}
	for _, e := range entries(body) {
		if keyText(e.Key) == "values" {
			if err := yaml.NodeToValue(e.Value, &all); err != nil {
				return nil, parsed(err)
			}
		}
	}
	maps.Copy(all, values)
	if err := f.fill(body, "", all); err != nil {
		return nil, err
	}
	if err := f.take(body, reflect.ValueOf(&f.Charter).Elem(), ""); err != nil {
		return nil, err
	}
	if f.Charter.Charter != Kind {
		return nil, f.errorf("charter", "it says %q of itself; write %q", f.Charter.Charter, Kind)
	}
	if f.Covers != "" && f.Covers != Everything {
		return nil, f.errorf("covers", "%q: write %s, or leave it out", f.Covers, Everything)
	}
	return f, f.check()
}

// ReadValues reads the values of an environment: a map of names to texts. Errors: *Error.
func ReadValues(text []byte) (map[string]string, error) {
	out := map[string]string{}
	if err := yaml.Unmarshal(text, &out); err != nil {
		e := parsed(err)
		e.Err = fmt.Errorf("%w; values are a map of names to texts, such as domain: sandbox.example", e.Err)
		return nil, e
	}
	return out, nil
}

// begins says how a charter is told from other files.
const begins = "a charter begins with \"charter: " + Kind + "\"; `tressik charter write` makes one of the ledger"

// parsed takes what the reader of YAML says, and where.
func parsed(err error) *Error {
	var y yaml.Error
	var typed *yaml.TypeError
	var node *yaml.UnexpectedNodeTypeError
	switch known := errors.As(err, &y) && y.GetToken() != nil; {
	case known && (errors.As(err, &typed) || errors.As(err, &node)):
		return &Error{Line: y.GetToken().Position.Line, Err: errors.New("another kind of value is expected there")}
	case known:
		return &Error{Line: y.GetToken().Position.Line, Err: errors.New(y.GetMessage())}
	}
	line, _, _ := strings.Cut(err.Error(), "\n")
	return &Error{Err: errors.New(line)}
}

// placeholder is how a value is named: ${NAME}. $${ stands for ${ itself.
var placeholder = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\$\$\{|\$\{([^{}]*)\}`)
})

// fill puts values in the place of their names, in texts and in keys.
func (f *File) fill(n ast.Node, path string, values map[string]string) error {
	var bad error
	text := func(s *ast.StringNode, path string) {
		s.Value = placeholder().ReplaceAllStringFunc(s.Value, func(m string) string {
			if m == "$${" {
				return "${"
			}
			v, ok := values[m[2:len(m)-1]]
			if !ok && bad == nil {
				bad = &Error{Line: s.GetToken().Position.Line, Path: path, Err: novalue(m[2:len(m)-1], values)}
			}
			return v
		})
	}
	switch x := n.(type) {
	case *ast.MappingNode:
		for _, v := range x.Values {
			if err := f.fill(v, path, values); err != nil {
				return err
			}
		}
	case *ast.MappingValueNode:
		if s, ok := x.Key.(*ast.StringNode); ok {
			text(s, path)
		}
		bad = errors.Join(bad, f.fill(x.Value, joined(path, keyText(x.Key)), values))
	case *ast.SequenceNode:
		for i, v := range x.Values {
			if err := f.fill(v, fmt.Sprintf("%s[%d]", path, i), values); err != nil {
				return err
			}
		}
	case *ast.StringNode:
		text(x, path)
	case *ast.LiteralNode:
		text(x.Value, path)
	case *ast.AnchorNode:
		return f.fill(x.Value, path, values)
	}
	return bad
}

func novalue(name string, values map[string]string) error {
	err := fmt.Sprintf("${%s} has no value", name)
	if n := near.Names(name, slices.Sorted(maps.Keys(values))); len(n) > 0 {
		err += "; did you mean ${" + strings.Join(n, "} or ${") + "}?"
	}
	return fmt.Errorf("%s; say it under values, or in a file of values", err)
}

func joined(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func keyText(n ast.MapKeyNode) string {
	if s, ok := n.(*ast.StringNode); ok {
		return s.Value
	}
	return n.String()
}

// entries are the entries of a mapping.
func entries(n ast.Node) []*ast.MappingValueNode {
	switch x := n.(type) {
	case *ast.MappingNode:
		return x.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{x}
	}
	return nil
}

// take reads a part of the file into a value: a struct by its keys, a map, a list, or one word. It refuses keys that
// the part does not have or that stand twice, what has another shape than is expected, and secrets in clear; and
// remembers where each part stands.
func (f *File) take(n ast.Node, to reflect.Value, path string) error {
	if a, ok := n.(*ast.AnchorNode); ok {
		n = a.Value
		f.anchors[a.Name.String()] = n
	}
	if a, ok := n.(*ast.AliasNode); ok {
		if n = f.anchors[a.Value.String()]; n == nil || entries(n) != nil || n.Type() == ast.SequenceType {
			return f.errorf(path, "*%s names no text that stands before it with &%[1]s", a.Value)
		}
	}
	if to.Kind() == reflect.Pointer && n.Type() != ast.NullType {
		to.Set(reflect.New(to.Type().Elem()))
		to = to.Elem()
	}
	f.lines[path] = n.GetToken().Position.Line
	if err := f.shaped(n, to.Type(), path); err != nil || n.Type() == ast.NullType {
		return err
	}
	switch to.Kind() {
	case reflect.Struct:
		return f.takeEntries(n, to, path, f.fields(to.Type()))
	case reflect.Map:
		to.Set(reflect.MakeMap(to.Type()))
		return f.takeEntries(n, to, path, nil)
	case reflect.Slice:
		list := n.(*ast.SequenceNode).Values // its shape was looked at
		to.Set(reflect.MakeSlice(to.Type(), len(list), len(list)))
		for i, v := range list {
			if err := f.take(v, to.Index(i), fmt.Sprintf("%s[%d]", path, i)); err != nil {
				return err
			}
		}
		return nil
	}
	word := wordOf(n)
	switch to.Kind() {
	case reflect.Bool:
		to.SetBool(n.(*ast.BoolNode).Value)
	case reflect.Int:
		number, err := strconv.Atoi(word)
		if err != nil {
			return f.errorf(path, "%s is no number that can be used", word)
		}
		to.SetInt(int64(number))
	default:
		if strings.Contains(word, "PRIVATE KEY-----") {
			return f.errorf(path, "a private key stands here in clear; a charter never holds one")
		}
		to.SetString(word)
	}
	return nil
}

// wordOf is the text of what is no map and no list.
func wordOf(n ast.Node) string {
	switch x := n.(type) {
	case *ast.StringNode:
		return x.Value
	case *ast.LiteralNode:
		return x.Value.Value
	case *ast.TagNode:
		return wordOf(x.Value)
	}
	return n.GetToken().Value
}

// takeEntries reads the entries of a mapping into a struct, whose fields by key are named, or into a map.
func (f *File) takeEntries(n ast.Node, to reflect.Value, path string, fields map[string]field) error {
	seen := map[string]bool{}
	for _, e := range entries(n) {
		k := keyText(e.Key)
		where := joined(path, k)
		f.lines[where] = e.Key.GetToken().Position.Line
		if seen[k] {
			return f.errorf(where, "it stands there twice")
		}
		seen[k] = true
		if fields == nil {
			v := reflect.New(to.Type().Elem()).Elem()
			if err := f.take(e.Value, v, where); err != nil {
				return err
			}
			to.SetMapIndex(reflect.ValueOf(k), v)
			continue
		}
		x, there := fields[k]
		if !there {
			return f.unknown(where, k, fields)
		}
		if _, text := e.Value.(*ast.StringNode); text && x.of == reflect.TypeFor[*Secret]() {
			return f.errorf(where, "a secret stands here in clear; say how long it lasts and where it goes, as "+
				"{lasts: 90d, out: FILE}, and retire the one that stood here")
		}
		if err := f.take(e.Value, to.FieldByIndex(x.index), where); err != nil {
			return err
		}
	}
	return nil
}

// shaped refuses a part that is of another shape than is expected there.
func (f *File) shaped(n ast.Node, t reflect.Type, path string) error {
	is := "a text"
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		is = "a map"
	case *ast.SequenceNode:
		is = "a list"
	case *ast.BoolNode:
		is = "true or false"
	case *ast.NullNode:
		is = "nothing"
	}
	expected, hint := "a text", ""
	switch t.Kind() {
	case reflect.Struct, reflect.Map:
		expected = "a map"
	case reflect.Slice:
		expected = "a list"
	case reflect.Bool:
		expected = "true or false"
	case reflect.String:
		if is == "a map" {
			hint = "; a text with a colon in it goes into quotes there"
		}
	}
	_, number := n.(*ast.IntegerNode)
	switch {
	case is == expected && !(number && t.Kind() == reflect.Bool), t.Kind() == reflect.Int && number, is == "nothing":
		return nil
	case t.Kind() == reflect.Int:
		expected = "a number"
	}
	return f.errorf(path, "%s stands here, and %s is expected%s", is, expected, hint)
}

// unknown refuses a key, naming the nearest.
func (f *File) unknown(where, k string, fields map[string]field) error {
	if secretive().MatchString(k) {
		return f.errorf(where, "a charter holds no secret; a client's is declared as secret: {lasts: 90d, out: FILE}, "+
			"and that of a directory stays where passwordFrom says")
	}
	names := slices.Sorted(maps.Keys(fields))
	if n := near.Names(k, names); len(n) > 0 {
		return f.errorf(where, "there is no such field here; did you mean %s?", strings.Join(n, " or "))
	}
	return f.errorf(where, "there is no such field here; there are %s", strings.Join(names, ", "))
}

var secretive = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)secret|password|private`)
})

// field is a field of a struct: where it is, and of which type.
type field struct {
	index []int
	of    reflect.Type
}

// fields are those of a struct by their keys, those of the structs within it included.
func (f *File) fields(t reflect.Type) map[string]field {
	if had := f.types[t]; had != nil {
		return had
	}
	out := map[string]field{}
	for _, x := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(x.Tag.Get("yaml"), ",")
		if name != "" {
			out[name] = field{x.Index, x.Type}
		}
	}
	f.types[t] = out
	return out
}

// check refuses what contradicts itself in the file alone.
func (f *File) check() error {
	for name, p := range f.Providers {
		if p == nil {
			return f.errorf("providers."+name, "nothing is said about it")
		}
		if f.Apps[name] != nil {
			return f.errorf("apps."+name, "a provider has that name as well; names of parties are alone in a ledger")
		}
		if err := f.party("providers."+name, &p.Party); err != nil {
			return err
		}
	}
	for name, a := range f.Apps {
		if a == nil {
			return f.errorf("apps."+name, "nothing is said about it")
		}
		if err := f.party("apps."+name, &a.Party); err != nil {
			return err
		}
		if _, err := f.permissions(name); err != nil {
			return err
		}
	}
	for name, t := range f.Trusts {
		if _, _, ok := strings.Cut(name, "@"); !ok || t == nil {
			return f.errorf("trusts."+name, "a trust is named APP@PROVIDER, and has at least its protocol (over)")
		}
		v, err := judge.ReadVouching(t.SpeaksFor)
		if err != nil {
			return f.at("trusts."+name+".speaksFor", err)
		}
		if len(t.SpeaksFor) > 0 {
			t.SpeaksFor = v.Said // as the ledger has it
		}
		if s := t.Secret; s != nil && (s.Lasts == "" || (s.Out == "") == (s.Into == "")) {
			return f.errorf("trusts."+name+".secret",
				"say how long it lasts, and one of out (a file) and into (a command)")
		}
	}
	for i, p := range f.People {
		if p.From == "" || p.Source == "" && p.Base+p.BindDN+p.Filter+p.PasswordFrom != "" {
			return f.errorf(fmt.Sprintf("people[%d]", i),
				"say from where they come; a directory also has a name (source)")
		}
	}
	return f.routes()
}

// written has the values of a list in the one way in which they are written of a ledger, where there are others.
func (s *SAML) written() {
	for i, f := range s.Formats {
		if meant, known := saml.FormatByWord(f); known {
			f = meant
		}
		s.Formats[i] = formatWord(f)
	}
	for _, list := range [][]string{s.SSO, s.Logout} {
		for i := range list {
			list[i] = strings.TrimPrefix(list[i], "redirect=")
		}
	}
}

// routes has the domains of routes as a ledger keeps them.
func (f *File) routes() error {
	said, kept := map[string]string{}, map[string]string{}
	for _, domain := range slices.Sorted(maps.Keys(f.Routes)) {
		d, err := federation.RoutedDomain(domain)
		if err != nil {
			return f.at("routes."+domain, err)
		}
		if other, twice := said[d]; twice {
			return f.errorf("routes."+domain, "%s is the same domain, and people of a domain go one way", other)
		}
		said[d], kept[d] = domain, f.Routes[domain]
		f.lines["routes."+d] = f.lines["routes."+domain]
	}
	f.Routes = kept
	return nil
}

func (f *File) party(path string, p *Party) error {
	if p.Own != nil && p.Metadata+p.SignedBy+p.Entity != "" {
		return f.errorf(path, "an own party's metadata is written, not read: leave out metadata, entity and signedBy")
	}
	if p.SAML != nil {
		p.SAML.written()
	}
	return nil
}

// permissions orders those of an API so that each comes after those that it includes. Errors: one that includes itself.
func (f *File) permissions(app string) ([]string, error) {
	api := f.Apps[app].API
	if api == nil {
		return nil, nil
	}
	var out []string
	state := map[string]int{} // 1: begun, 2: done
	var visit func(name string, way []string) error
	visit = func(name string, way []string) error {
		path := "apps." + app + ".api.permissions." + name
		p := api.Permissions[name]
		switch {
		case p == nil && len(way) > 0:
			return nil // one that the ledger may have
		case p == nil:
			return f.errorf(path, "nothing is said about it")
		case state[name] == 1:
			return f.errorf(path, "it includes itself: %s", strings.Join(append(way, name), " includes "))
		case state[name] == 2:
			return nil
		}
		state[name] = 1
		for _, n := range p.Includes {
			if err := visit(n, append(way, name)); err != nil {
				return err
			}
		}
		state[name] = 2
		out = append(out, name)
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(api.Permissions)) {
		if err := visit(name, nil); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Rebase gives each path of a file that the charter names another form: the one by which it is opened.
func (f *File) Rebase(path func(string) string) {
	one := func(refs ...*string) {
		for _, r := range refs {
			if *r != "" && !isText(*r) && !strings.Contains(*r, "://") {
				*r = path(*r)
			}
		}
	}
	party := func(p *Party) {
		one(&p.Metadata, &p.SignedBy, &p.CA)
		if p.SAML != nil {
			one(&p.SAML.SigningCertificate, &p.SAML.EncryptionCertificate)
		}
	}
	for _, p := range f.Providers {
		party(&p.Party)
		one(&p.Discovery, &p.JWKS)
	}
	for _, a := range f.Apps {
		party(&a.Party)
	}
	for _, t := range f.Trusts {
		one(&t.ClientKey, &t.ClientKeysCA, &t.ClientCert, &t.ClientCertCA)
		if t.Secret != nil {
			one(&t.Secret.Out)
		}
	}
	for i := range f.People {
		p := &f.People[i]
		one(&p.From, &p.CA)
		if file, is := strings.CutPrefix(p.PasswordFrom, "file:"); is {
			one(&file)
			p.PasswordFrom = "file:" + file
		}
	}
}
