package finding

import (
	"slices"
	"strings"
)

// Blank is what only a person can fill into a remedy: its name as it stands in the command, and where one finds it.
type Blank struct {
	Name  string `json:"name"`
	Where string `json:"where"`
}

// The blanks of remedies. What the ledger knows is never one.
const (
	BlankMail   = "MAIL"
	BlankFile   = "FILE"
	BlankPerson = "PERSON"
	BlankSource = "SOURCE"
	BlankText   = "TEXT"
	BlankID     = "ID"
	BlankURL    = "URL"
	BlankURI    = "URI"
	BlankPin    = "SHA256"
	BlankField  = "FIELD"
	BlankName   = "NAME"
	BlankApp    = "APP"
)

// AllBlanks lists every blank with where one finds it.
func AllBlanks() []Blank {
	return []Blank{
		{BlankMail, "a mail address: of whoever answers for it on that side"},
		{BlankFile, "a path: the file that the other side, or whoever keeps it, gave you"},
		{BlankPerson, "an ID: one of those that `tressik people list` shows"},
		{BlankSource, "a file, - or an https: address: where the party publishes its metadata; its owner knows"},
		{BlankText, "a sentence in your own words"},
		{BlankID, "an identifier that the other side's console shows"},
		{BlankURL, "an https: address: the app's or the provider's owner knows it"},
		{BlankURI, "an address of the app, exactly as the app's own settings show it"},
		{BlankPin, "64 hexadecimal digits: the SHA-256 of the server's next certificate, from its owner"},
		{BlankField, "a column of the app's own export of accounts"},
		{BlankName, "a name of your choice"},
		{BlankApp, "a name: one of those that `tressik app list` shows"},
		{"PROVIDER", "a name: one of those that `tressik provider list` shows"},
		{"OWN-PROVIDER", "a name: a provider of your own, as `tressik provider list` shows"},
		{"TRUST", "a name: one of those that `tressik trust list` shows"},
		{"AUDIENCE", "the address under which the API knows itself; its owner knows"},
		{"EXPRESSION", "an expression over person and groups; see `tressik claims set --help`"},
		{"CLAIM", "a name under which a value arrives: NameID, or as in `tressik claims preview`"},
		{"DIR", "a folder of your choice"},
		{"API", "a name: an app with an api side, as `tressik permission list` shows"},
		{"KEY", "an ID of a key, as `tressik key list` shows"},
		{"DATE", "a day, such as 2032-03-04: until when it holds, as the other side says"},
		{"DOMAIN", "a mail domain, such as southmere.example"},
	}
}

// Blanks lists what somebody has to fill into the commands of a remedy, each once, in the order in which they stand.
func (r Remedy) Blanks() []Blank {
	var out []Blank
	for _, word := range slices.Concat(r.Commands()...) {
		if !strings.ContainsFunc(word, func(r rune) bool { return r >= 'A' && r <= 'Z' }) { // as most are
			continue
		}
		between := blanksIn(word)
		for _, b := range AllBlanks() {
			if slices.Contains(between, b.Name) && !slices.Contains(out, b) {
				out = append(out, b)
			}
		}
	}
	return out
}

// blanksIn are the pieces of a word of a command which may be blanks: the word, or what it has between signs, as
// group:NAME and APP@ridge do.
func blanksIn(word string) []string {
	return strings.FieldsFunc(word, func(r rune) bool { return strings.ContainsRune(":@=|,", r) })
}
