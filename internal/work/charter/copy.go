package charter

import (
	"errors"
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/model"
)

// Copying says how a trust is made one of another environment.
type Copying struct {
	From, To string      // names of trusts
	Replace  [][2]string // texts in the old one, and what stands for them in the new one
}

// ErrCopy means that a trust cannot be copied as it was said.
var ErrCopy = errors.New("cannot be copied")

// Copy declares a trust as a copy of another: its terms, claims, permissions and expectations, and the client side of
// its app where the new app is not there yet. No secret, key or client ID is carried, nor the answers of people: those
// belong to the old one. Whatever would still name the old one, or lead to this machine, is refused. Errors: ErrCopy,
// *model.UnknownError.
func Copy(book *model.Book, c Copying) (*File, error) {
	t, app, provider, err := book.Trust(c.From)
	if err != nil {
		return nil, err
	}
	toApp, toProvider, ok := strings.Cut(c.To, "@")
	if !ok || c.To == c.From {
		return nil, fmt.Errorf("%s %w to %q: write the new trust as APP@PROVIDER", c.From, ErrCopy, c.To)
	}
	if _, err := book.Party(federation.Provider, toProvider); err != nil {
		return nil, err
	}
	w := &Writer{View: book.View}
	all, err := w.Of(book, []string{c.From})
	if err != nil {
		return nil, err
	}
	out := &File{lines: map[string]int{}, Charter: Charter{Charter: Kind, Apps: map[string]*App{},
		Trusts: map[string]*Trust{}}}
	trust := all.Trusts[c.From]
	trust.ClientID, trust.ClientKey, trust.ClientKeysAt, trust.ClientKeysCA, trust.ClientKeysPin = "", "", "", "", ""
	trust.ClientCert, trust.ClientCertName, trust.ClientCertCA = "", "", ""
	trust.Ends = nil
	out.Trusts[c.To] = trust
	for _, e := range all.Expectations {
		e.Trust = c.To
		out.Expectations = append(out.Expectations, e)
	}
	_, err = book.View.Party(toApp)
	switch {
	case err == nil:
	case !errors.Is(err, model.ErrNotFound):
		return nil, err
	case app.Kind != federation.App || app.Client == nil || app.Entity.SP != nil && !app.Own:
		return nil, finding.Advise(fmt.Errorf("%s %w: %s is not there, and what the other side published "+
			"belongs to %s "+
			"alone", c.From, ErrCopy, toApp, app.Name), finding.Run("app", "add", toApp, "--metadata", "SOURCE"))
	default:
		a := all.Apps[app.Name]
		a.API = nil
		out.Apps[toApp] = a
	}
	replaced(reflect.ValueOf(&out.Charter).Elem(), c.Replace)
	return out, out.clean(c, t, app, provider)
}

// replaced puts other texts in the place of those that are named, wherever they stand.
func replaced(v reflect.Value, list [][2]string) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			replaced(v.Elem(), list)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			replaced(v.Field(i), list)
		}
	case reflect.Slice:
		for i := range v.Len() {
			replaced(v.Index(i), list)
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			x := reflect.New(v.Type().Elem()).Elem()
			x.Set(v.MapIndex(k))
			replaced(x, list)
			v.SetMapIndex(k, x)
		}
	case reflect.String:
		s := v.String()
		for _, r := range list {
			s = strings.ReplaceAll(s, r[0], r[1])
		}
		v.SetString(s)
	}
}

// clean refuses a copy that leads to this machine, or that names what it was copied from.
func (f *File) clean(c Copying, t *federation.Trust, app, provider *federation.Party) error {
	old := []string{}
	if to, at, _ := strings.Cut(c.To, "@"); to != app.Name {
		old = append(old, app.Name)
		if at != provider.Name {
			old = append(old, provider.Name)
		}
		for _, u := range app.Addresses() {
			if p, err := url.Parse(u); err == nil && p.Host != "" && !slices.Contains(old, p.Host) {
				old = append(old, p.Hostname())
			}
		}
	}
	var bad error
	f.texts("", reflect.ValueOf(f.Charter), func(path, s string) {
		if bad != nil || strings.HasSuffix(path, ".over") {
			return
		}
		if u, err := url.Parse(s); err == nil && u.Host != "" && judge.IsLoopback(u.Hostname()) {
			bad = fmt.Errorf("%s %w: %s leads to this machine: %s; name what stands for it with a replacement", t.Name,
				ErrCopy, path, s)
			return
		}
		for _, o := range old {
			if names(s, o) {
				bad = fmt.Errorf("%s %w: %s still names what it was copied from: %s (%s); name what stands "+
					"for it with a "+
					"replacement", t.Name, ErrCopy, path, s, o)
				return
			}
		}
	})
	return bad
}

// names reports whether a text has a name in it, and not as a part of a longer one.
func names(s, name string) bool {
	for i := 0; ; {
		j := strings.Index(s[i:], name)
		if j < 0 || name == "" {
			return false
		}
		i += j
		before, after := i == 0 || !word(s[i-1]), i+len(name) == len(s) || !word(s[i+len(name)])
		if before && after {
			return true
		}
		i++
	}
}

func word(b byte) bool {
	return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || b == '-'
}

// texts goes through all texts of a part, but for the names of its records.
func (f *File) texts(path string, v reflect.Value, each func(path, s string)) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			f.texts(path, v.Elem(), each)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			name, rest, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ",")
			if rest == "inline" {
				name = ""
			}
			if x := v.Type().Field(i); x.Name == "Trust" && v.Field(i).Kind() == reflect.String {
				continue // of an expectation
			}
			f.texts(strings.Trim(path+"."+name, "."), v.Field(i), each)
		}
	case reflect.Slice:
		for i := range v.Len() {
			f.texts(path, v.Index(i), each)
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			f.texts(path+"."+k.String(), v.MapIndex(k), each)
		}
	case reflect.String:
		each(path, v.String())
	}
}

// CompareTrusts says in what two trusts differ, and the client sides of their apps. Errors: *model.UnknownError.
func CompareTrusts(book *model.Book, a, b string) ([]Difference, error) {
	w := &Writer{View: book.View}
	var sides [2]*Charter
	for i, name := range []string{a, b} {
		all, err := w.Of(book, []string{name})
		if err != nil {
			return nil, err
		}
		app, _, _ := strings.Cut(name, "@")
		out := &Charter{Trusts: map[string]*Trust{"": all.Trusts[name]}, Apps: map[string]*App{}}
		if x := all.Apps[app]; x != nil {
			out.Apps[""] = x
		}
		sides[i] = out
	}
	list := compare(sides[0], sides[1])
	for i := range list {
		list[i].About = strings.TrimSpace(list[i].About)
	}
	return list, nil
}
