package xmlsec

import (
	"iter"
	"slices"
	"strings"

	"github.com/beevik/etree"
)

// Is reports whether the element has the namespace and local name.
func Is(el *etree.Element, ns, local string) bool {
	return el != nil && el.Tag == local && Namespace(el) == ns
}

// Namespace returns the namespace name of an element, looked up through its ancestors.
func Namespace(el *etree.Element) string { return lookupNS(el, el.Space) }

func lookupNS(el *etree.Element, prefix string) string {
	if prefix == "xml" {
		return xmlNS
	}
	for e := el; e != nil; e = e.Parent() {
		for i := range e.Attr {
			a := &e.Attr[i]
			if prefix == "" && a.Space == "" && a.Key == "xmlns" ||
				prefix != "" && a.Space == "xmlns" && a.Key == prefix {
				return a.Value
			}
		}
	}
	return ""
}

// Child returns the first child element with the namespace and local name, or nil.
func Child(el *etree.Element, ns, local string) *etree.Element {
	if el == nil {
		return nil
	}
	for _, t := range el.Child {
		if c, ok := t.(*etree.Element); ok && c.Tag == local && Namespace(c) == ns {
			return c
		}
	}
	return nil
}

// Elements goes through the child elements, in document order.
func Elements(el *etree.Element) iter.Seq[*etree.Element] {
	return func(yield func(*etree.Element) bool) {
		if el == nil {
			return
		}
		for _, t := range el.Child {
			if c, ok := t.(*etree.Element); ok && !yield(c) {
				return
			}
		}
	}
}

// All goes through the child elements with the namespace and local name, in document order.
func All(el *etree.Element, ns, local string) iter.Seq[*etree.Element] {
	return func(yield func(*etree.Element) bool) {
		if el == nil {
			return
		}
		for _, t := range el.Child {
			if c, ok := t.(*etree.Element); ok && c.Tag == local && Namespace(c) == ns && !yield(c) {
				return
			}
		}
	}
}

// Children returns the child elements with the namespace and local name, in document order.
func Children(el *etree.Element, ns, local string) []*etree.Element {
	return slices.Collect(All(el, ns, local))
}

// Path follows child elements of one namespace by local names; nil where one is missing.
func Path(el *etree.Element, ns string, locals ...string) *etree.Element {
	for _, l := range locals {
		el = Child(el, ns, l)
	}
	return el
}

// Text returns the character data of an element with the white space at its ends taken off, as a URI is read (XML
// Schema, whiteSpace collapse).
func Text(el *etree.Element) string { return strings.TrimSpace(Value(el)) }

// Value returns the whole character data of an element as it stands, as a string is read (XML Schema, whiteSpace
// preserve). A comment inside does not split the value; text of child elements does not count.
func Value(el *etree.Element) string {
	if el == nil {
		return ""
	}
	one, n := "", 0
	var many strings.Builder
	for _, t := range el.Child {
		if c, ok := t.(*etree.CharData); ok {
			if n == 0 {
				one = c.Data
			} else {
				if n == 1 {
					many.WriteString(one)
				}
				many.WriteString(c.Data)
			}
			n++
		}
	}
	if n > 1 {
		one = many.String()
	}
	return one
}

// Attr returns the value of an attribute without a namespace, or "".
func Attr(el *etree.Element, key string) string {
	if el == nil {
		return ""
	}
	for i := range el.Attr {
		if el.Attr[i].Space == "" && el.Attr[i].Key == key {
			return el.Attr[i].Value
		}
	}
	return ""
}

// AttrNS returns the value of an attribute in a namespace, or "".
func AttrNS(el *etree.Element, ns, key string) string {
	for i := range el.Attr {
		if a := &el.Attr[i]; a.Key == key && a.Space != "" && lookupNS(el, a.Space) == ns {
			return a.Value
		}
	}
	return ""
}

// HasAttr reports whether an attribute without a namespace is there.
func HasAttr(el *etree.Element, key string) bool {
	for i := range el.Attr {
		if el.Attr[i].Space == "" && el.Attr[i].Key == key {
			return true
		}
	}
	return false
}

// Walk calls f for the element and every element below it, in document order, until f returns false.
func Walk(el *etree.Element, f func(*etree.Element) bool) bool {
	if !f(el) {
		return false
	}
	for _, t := range el.Child {
		if c, ok := t.(*etree.Element); ok && !Walk(c, f) {
			return false
		}
	}
	return true
}

// Scope returns the namespace declarations in force at an element, by prefix.
func Scope(el *etree.Element) map[string]string {
	out := map[string]string{}
	for e := el; e != nil; e = e.Parent() {
		for _, a := range e.Attr {
			p, ok := declares(a)
			if !ok {
				continue
			}
			if _, has := out[p]; !has {
				out[p] = a.Value
			}
		}
	}
	for p, u := range out {
		if u == "" {
			delete(out, p)
		}
	}
	return out
}

// declares returns the prefix that a namespace declaration binds.
func declares(a etree.Attr) (string, bool) {
	if a.Space == "" && a.Key == "xmlns" {
		return "", true
	}
	if a.Space == "xmlns" {
		return a.Key, true
	}
	return "", false
}

// declaration reports whether an attribute declares a namespace.
func declaration(a *etree.Attr) bool { return a.Space == "xmlns" || a.Space == "" && a.Key == "xmlns" }

// New makes an element with attributes given as key, value pairs; pairs with an empty value are left out.
func New(tag string, attrs ...string) *etree.Element {
	prefix, local, ok := strings.Cut(tag, ":")
	if !ok {
		prefix, local = "", tag
	}
	el := &etree.Element{Space: prefix, Tag: local}
	for i := 0; i+1 < len(attrs); i += 2 {
		if attrs[i+1] == "" {
			continue
		}
		p, l, ok := strings.Cut(attrs[i], ":")
		if !ok {
			p, l = "", attrs[i]
		}
		el.Attr = append(el.Attr, etree.Attr{Space: p, Key: l, Value: attrs[i+1]})
	}
	return el
}

// Add makes an element as New does and appends it to the parent.
func Add(parent *etree.Element, tag string, attrs ...string) *etree.Element {
	el := New(tag, attrs...)
	parent.AddChild(el)
	return el
}

// AddText appends an element that holds text.
func AddText(parent *etree.Element, tag, text string, attrs ...string) *etree.Element {
	el := Add(parent, tag, attrs...)
	el.AddChild(etree.NewText(text))
	return el
}
