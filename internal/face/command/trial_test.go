package command

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger/sqlite"
	"tressik.example/internal/model"
)

// app is the program in a folder with a ledger, at a clock that stands.
func app(dir string, out io.Writer) *App {
	return &App{In: strings.NewReader(""), Out: out, Err: out, Env: func(name string) string {
		return map[string]string{"TRESSIK_NOW": "2031-03-04T09:00:00Z", "TRESSIK_ACTOR": "aiyana",
			"TRESSIK_LEDGER": filepath.Join(dir, "tressik.ledger")}[name]
	}}
}

// done is what a change did, as the journal has it: each entry with the records behind it.
type done struct {
	Action, Party, Trust string
	Records              []string
}

// whatWasDone reads what entries of the journal say. What is random in it is left out: keys, and what hangs on them.
func whatWasDone(t *testing.T, entries []model.Entry) (out []done) {
	t.Helper()
	for _, e := range entries {
		var list []model.Recorded
		if err := json.Unmarshal(e.Records, &list); err != nil {
			t.Fatal(err)
		}
		d := done{e.Action, e.Party, e.Trust, nil}
		for _, r := range list {
			id, before, after := r.ID, fields(r.Before), fields(r.After)
			if r.Kind == model.Secrets || r.Kind.Personal() {
				id = ""
			}
			d.Records = append(d.Records, fmt.Sprintf("%s %q: %s > %s", r.Kind, id, before, after))
		}
		slices.Sort(d.Records)
		out = append(out, d)
	}
	return out
}

// fields are a record without what is random or grows: certificates, salts, identifiers.
func fields(doc json.RawMessage) string {
	var v any
	if json.Unmarshal(doc, &v) != nil {
		return ""
	}
	if _, hashed := v.(string); hashed {
		return "hashed"
	}
	var walk func(v any) any
	walk = func(v any) any {
		switch x := v.(type) {
		case map[string]any:
			for k, e := range x {
				switch k {
				case "certificate", "x509", "salt", "Salt", "subject", "id", "endsIn", "clientID", "keys", "tokenKeys",
					"keysSeen", "sealed", "facts", "number", "lastRehearsal":
					delete(x, k)
				default:
					x[k] = walk(e)
				}
			}
			return x
		case []any:
			for i := range x {
				x[i] = walk(x[i])
			}
		}
		return v
	}
	b, _ := json.Marshal(walk(v)) // it was JSON
	return string(b)
}

// TestTriedAsDone: each command that changes the ledger does, tried on an overlay, what it does for real, and leaves
// the ledger as it was.
func TestTriedAsDone(t *testing.T) {
	t.Parallel()
	demo := filepath.Join(t.TempDir(), "demo")
	var said bytes.Buffer
	env := app(t.TempDir(), &said).Env
	maker := &App{In: strings.NewReader(""), Out: &said, Err: &said, Env: func(name string) string {
		if name == "TRESSIK_LEDGER" {
			return filepath.Join(demo, "tressik.ledger")
		}
		return env(name)
	}}
	if err := os.Mkdir(demo, 0o755); err != nil {
		t.Fatal(err)
	}
	now, err := maker.now()
	if err != nil {
		t.Fatal(err)
	}
	if err := demoFiles(demo, now()); err != nil {
		t.Fatal(err)
	}
	at := func(name string) string { return filepath.Join(demo, name) }
	for _, line := range []string{
		`init --org "Kestrel Ridge Observatory"`, "people load " + at("observatory.ldif"),
		"provider add ridge --own --at https://login.kestrelridge.example --key ecdsa-p256 --administrators " +
			"group:directors",
		"provider add southmere --metadata " + at("southmere-metadata.xml"),
		"provider change southmere --issuer https://idp.southmere.example --discovery " + at("southmere-openid.json") +
			" --jwks " + at("southmere-jwks.json"),
		"app add nightlog --metadata " + at("nightlog-metadata.xml") + " --reads username=mail --account-key username",
		"app add spare --client native --redirect org.example.spare:/cb",
		"app add telescope-api --api https://telescope.kestrelridge.example",
		`permission publish telescope-api schedule.read --as user --says "see who observes"`,
		`permission publish telescope-api spare.read --as user --says "see what is spare"`,
		"app add dome-scheduler --client web --redirect https://dome.kestrelridge.example/cb",
		"federate dome-scheduler --with ridge --over oidc", "federate nightlog --with ridge",
		"federate nightlog --with southmere", "federate ridge --with southmere --over oidc --client-id k",
		"permission ask dome-scheduler@ridge telescope-api:schedule.read", "claims set nightlog@ridge mail=person.mail",
		"secret add dome-scheduler@ridge --lasts 30d", "accounts load nightlog " + at("nightlog-accounts.csv"),
		"trust change nightlog@ridge --owner o@kestrelridge.example", "key announce ridge --use tokens",
		"rehearse nightlog@ridge --as mira", "expect record nightlog@ridge",
	} {
		words, err := format.Split(line)
		if err != nil {
			t.Fatal(err)
		}
		said.Reset()
		a := *maker
		if code := a.Run(t.Context(), words); code != exitDone && code != exitFound {
			t.Fatalf("tressik %s: %d %s", line, code, said.String())
		}
	}
	for _, c := range tried(at) {
		t.Run(strings.Join(c, " ; "), func(t *testing.T) { triedAsDone(t, demo, c) })
	}
}

// tried are the commands that change the ledger, each with those that lead to it.
func tried(at func(string) string) [][]string {
	live := "cutover nightlog@ridge --way-back paper --despite test"
	return [][]string{
		{"federate spare --with ridge --over oidc"}, {"handoff nightlog@ridge --for app"},
		{"handoff nightlog@ridge --for app --delivered m@nightlog.example"}, {"rehearse nightlog@ridge --as mira"},
		{live}, {live, "cutover nightlog@ridge --pause --yes"}, {live, "cutover nightlog@ridge --back"},
		{live, "cutover nightlog@ridge --pause --yes", "cutover nightlog@ridge --resume"},
		{live + " --at 2031-03-05T09:00:00Z"},
		{"next nightlog@ridge --waive probed --reason x"}, {"next nightlog@ridge --done watched --reason x"},
		{"check accept dome-scheduler@ridge trust.owner --reason x --until 2031-06-01"},
		{"check accept dome-scheduler@ridge trust.owner --reason x --until 2031-06-01",
			"check reopen dome-scheduler@ridge trust.owner"},
		{"due --since-last"}, {"provider add other --entity-id urn:o --sso https://o.example/sso"},
		{"app add other --entity-id urn:o --acs https://o.example/acs"}, {"app change nightlog --title Night"},
		{"app change dome-scheduler --add-redirect https://dome.kestrelridge.example/cb2"}, {"app remove spare"},
		{"trust change nightlog@ridge --admits group:observers"},
		{"trust change dome-scheduler@ridge --session 4h"}, {"trust end nightlog@southmere"},
		{"trust remove dome-scheduler@ridge"}, {"key new ridge --use signing"}, {"key announce ridge"},
		{"key activate ridge --use tokens"}, {"key announce ridge", "key activate ridge --break nightlog@ridge"},
		{"key activate ridge --use tokens", "key withdraw ridge --early"},
		{"secret add dome-scheduler@ridge --lasts 20d"},
		{"claims set nightlog@ridge mail=first(person.mail)"}, {"claims drop nightlog@ridge mail"},
		{"claims schema nightlog@ridge inetOrgPerson"}, {"people load " + at("observatory.ldif") + " --replace"},
		{"people rename mira mira.solano"}, {"people source add staff " + at("more.csv")},
		{"people source add staff " + at("more.csv"), "people source read staff"},
		{"people source add staff " + at("more.csv"), "people source remove staff"},
		{"people bind mira --trust ridge@southmere --subject s1"},
		{"accounts load nightlog " + at("nightlog-accounts.csv")},
		{"accounts carry dome-scheduler --to ridge --table " + at("carry.csv")},
		{"accounts carry dome-scheduler --to ridge --table " + at("carry.csv"),
			"accounts carry dome-scheduler --to ridge --drop"},
		{"registrar add p --at-provider ridge --kinds web --lasts 9d", "registrar retire p"},
		{"provider change ridge --agreed-by 2"}, {"app change nightlog --fetches-from 192.0.2.1"},
		{"arrival set ridge@southmere --unknown created"},
		{`permission publish telescope-api frames.read --as self --says "read frames"`},
		{"permission unpublish telescope-api spare.read"}, {"permission ask dome-scheduler@ridge offline_access"},
		{"permission drop dome-scheduler@ridge telescope-api:schedule.read"},
		{"consent give dome-scheduler@ridge telescope-api:schedule.read --for everyone"},
		{"expect add nightlog@ridge --as mira --admitted"}, {"expect run"}, {"expect remove 1"},
		{"route add southmere.example --to southmere"},
		{"route add southmere.example --to southmere", "route remove southmere.example"},
	}
}

func triedAsDone(t *testing.T, demo string, lines []string) {
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(demo)); err != nil {
		t.Fatal(err)
	}
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			err = os.Chmod(path, 0o600)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(demo, "more.csv"), []byte("uid,mail\nzora,zora@kestrelridge.example\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(demo, "carry.csv"), []byte("person,subject\nmira,m-1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var said bytes.Buffer
	var last []string
	for i, line := range lines {
		words, err := format.Split(line)
		if err != nil {
			t.Fatal(err)
		}
		words = append(words, "--yes")
		if last = words; i == len(lines)-1 {
			break
		}
		if code := app(dir, &said).Run(t.Context(), words); code != exitDone && code != exitFound {
			t.Fatalf("tressik %s: %d %s", line, code, said.String())
		}
	}
	before := read(t, dir)
	outer := app(dir, io.Discard)
	outer.run = t.Context()
	d, err := outer.desk()
	if err != nil {
		t.Fatal(err)
	}
	seq, err := d.LastSeq()
	if err != nil {
		t.Fatal(err)
	}
	said.Reset()
	b, code := outer.try(t.Context(), d, app(dir, &said), slices.Clone(last))
	if code != exitDone && code != exitFound {
		t.Fatalf("tried, tressik %s: %d %s", strings.Join(last, " "), code, said.String())
	}
	c := b.Changes()
	key, _ := d.Value(model.SettingPeople)
	tried, err := c.Append(seq, "", key)
	if err != nil {
		t.Fatal(err)
	}
	if err := outer.close(); err != nil {
		t.Fatal(err)
	}
	if after := read(t, dir); len(after) != len(before) {
		t.Errorf("trying it left %d entries in the journal", len(after)-len(before))
	}
	said.Reset()
	if real := app(dir, &said).Run(t.Context(), slices.Clone(last)); real != code {
		t.Fatalf("tried it ended with %d, done with %d: %s", code, real, said.String())
	}
	want := whatWasDone(t, read(t, dir)[len(before):])
	got := whatWasDone(t, tried)
	if fmt.Sprintf("%+v", got) != fmt.Sprintf("%+v", want) {
		t.Errorf("tried:\n%+v\ndone:\n%+v", got, want)
	}
	if len(want) == 0 && len(c.Records) == 0 {
		t.Error("it changed nothing: this test proves nothing")
	}
}

// read reads the journal of a ledger, with the records of each entry.
func read(t *testing.T, dir string) []model.Entry {
	t.Helper()
	a := app(dir, io.Discard)
	a.run = t.Context()
	o, err := a.options()
	if err != nil {
		t.Fatal(err)
	}
	l, err := sqlite.Open(t.Context(), a.ledgerPath(), o)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	list, err := l.Now(t.Context()).Journal(model.Filter{Whole: true})
	if err != nil {
		t.Fatal(err)
	}
	return list
}
