package people

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
)

// Named finds whom a name means: the person with that ID, else the one with that mail address; letters' case does not
// count. An address that several people of one home have means none of them, since whoever took the first would take
// one for another: shared are their IDs then. The same person may be known at another home as well.
func Named(list []Person, name string) (who *Person, shared []string) {
	for i := range list {
		if strings.EqualFold(list[i].ID, name) {
			return &list[i], nil
		}
	}
	for i := range list {
		switch {
		case !list[i].mails(name):
		case who == nil:
			who, shared = &list[i], append(shared, list[i].ID)
		case who.Home == list[i].Home:
			shared = append(shared, list[i].ID)
		}
	}
	if len(shared) > 1 {
		return nil, shared
	}
	return who, nil
}

func (p *Person) mails(name string) bool {
	return slices.ContainsFunc(p.Attributes["mail"], func(m string) bool { return strings.EqualFold(m, name) })
}

// Judge judges people against each other: an address that several have signs none of them in by itself; an entryUUID
// that two have says that one of them is somebody else (RFC 4530).
func Judge(list []Person) (out finding.List) {
	mails, uuids := map[string][]string{}, map[string][]string{}
	for i := range list {
		p := &list[i]
		for _, m := range p.Attributes["mail"] {
			if k := strings.ToLower(m) + "\x00" + p.Home; !slices.Contains(mails[k], p.ID) {
				mails[k] = append(mails[k], p.ID)
			}
		}
		if u := strings.ToLower(p.UUID()); u != "" {
			uuids[u+"\x00"+p.Home] = append(uuids[u+"\x00"+p.Home], p.ID)
		}
	}
	shared := func(of map[string][]string, f finding.Finding) {
		var first []string
		n := 0
		for _, v := range slices.Sorted(maps.Keys(of)) {
			if len(of[v]) < 2 {
				continue
			}
			if n++; n <= 3 {
				name, _, _ := strings.Cut(v, "\x00")
				first = append(first, name+" of "+strings.Join(of[v][:min(3, len(of[v]))], ", "))
			}
		}
		if n == 0 {
			return
		}
		if f.Saw = strings.Join(first, "; "); n > 3 {
			f.Saw += fmt.Sprintf("; and %d more", n-3)
		}
		out.Add(f)
	}
	shared(uuids, finding.Finding{ID: finding.PeopleUUID, Level: finding.Error, Check: "entryUUID of people",
		Expected: "one for each: it is by that that somebody is known again under another name", Side: finding.Ledger,
		Fix: finding.Do("find out which record is the person's, and load people without the other"),
		Ref: "RFC 4530 2.1"})
	shared(mails, finding.Finding{ID: finding.PeopleAddress, Level: finding.Warning, Check: "addresses of people",
		Expected: "one person for each: an address that several have signs none of them in", Side: finding.Ledger,
		Fix: finding.Do("have the people sign in by their names, or give each an address of their own")})
	return out
}
