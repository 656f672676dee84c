package main

import (
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

// recorded is an HTTP Archive of requests, each of an address and a form body, or "".
func recorded(t *testing.T, at time.Time, requests [][2]string, params bool) string {
	t.Helper()
	var list []map[string]any
	for i, r := range requests {
		req := map[string]any{"method": "GET", "url": r[0], "headers": []any{}}
		if r[1] != "" {
			post := map[string]any{"mimeType": "application/x-www-form-urlencoded", "text": r[1]}
			if params { // as some browsers write a form: its fields, and no text
				form, err := url.ParseQuery(r[1])
				if err != nil {
					t.Fatal(err)
				}
				var fields []map[string]string
				for k, v := range form {
					fields = append(fields, map[string]string{"name": k, "value": url.QueryEscape(v[0])})
				}
				post = map[string]any{"mimeType": "application/x-www-form-urlencoded", "params": fields}
			}
			req["method"], req["postData"] = "POST", post
		}
		list = append(list,
			map[string]any{"startedDateTime": at.Add(time.Duration(i) * time.Millisecond).Format(time.RFC3339Nano),
				"request": req,
				"response": map[string]any{"status": 200,
					"content": map[string]any{"encoding": "base64", "text": "AP8A/w=="}}})
	}
	b, err := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2", "pages": []any{}, "entries": list}})
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// TestArchive: the messages of a recorded session are found, in order, judged by their trust, and the first that is
// wrong is named.
func TestArchive(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const acs = "https://nightlog.kestrelridge.example/saml/acs/"
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--keep", d.path("kept"), "--dry-run")
	kept := func(name string) string {
		b, err := os.ReadFile(filepath.Join(d.path("kept"), name))
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(b))
	}
	request, response := kept("01-nightlog@ridge-request.txt"), kept("02-nightlog@ridge-response.txt")
	session := [][2]string{{"https://nightlog.kestrelridge.example/?state=dark", ""}, {request, ""}, {acs, response},
		{"https://nightlog.kestrelridge.example/style.css", ""}}
	type line struct {
		From, Kind, Verdict, Trust, Subject string
		Findings                            []struct{ ID, Level string }
	}
	read := func(file string, more ...string) (out []line, r result) {
		r = d.run(append([]string{"inspect", file, "--format", "json"}, more...)...)
		if err := json.Unmarshal([]byte(r.out), &out); err != nil {
			t.Fatalf("%v in %q; %s", err, r.out, r.err)
		}
		return out, r
	}
	var first []line
	now := time.Date(2031, 3, 4, 9, 0, 1, 0, time.UTC) // as the demo's clock
	for _, params := range []bool{false, true} {
		list, _ := read(d.write("session.har", recorded(t, now, session, params)))
		if len(list) != 2 || list[0].Kind != "SAML AuthnRequest" || list[0].Trust != "nightlog@ridge" ||
			list[0].From != "2 login.kestrelridge.example/sso" || list[1].Kind != "SAML Response" ||
			list[1].Verdict != "accepted" || list[1].Subject == "" {
			t.Fatalf("params %v: %+v", params, list)
		}
		if first == nil {
			first = list
		} else if first[1].Subject != list[1].Subject {
			t.Errorf("two ways to write a form are read as two subjects")
		}
	}
	// The time of the judgement is that of the recording: an hour later the response has run out.
	late, _ := read(d.write("late.har", recorded(t, now.Add(time.Hour), session, false)))
	if late[1].Verdict != "refused" || !slices.ContainsFunc(late[1].Findings, func(f struct{ ID, Level string }) bool {
		return f.Level == "error" && strings.Contains(f.ID, "time")
	}) {
		t.Errorf("judged at another time than the recording's: %+v", late[1])
	}
	// A response that answers another request than the one before it.
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--keep", d.path("other"), "--dry-run")
	b, err := os.ReadFile(filepath.Join(d.path("other"), "01-nightlog@ridge-request.txt"))
	if err != nil {
		t.Fatal(err)
	}
	swapped, _ := read(d.write("swapped.har", recorded(t, now, [][2]string{{strings.TrimSpace(string(b)), ""},
		{acs, response}}, false)))
	if !slices.ContainsFunc(swapped[1].Findings, func(f struct{ ID, Level string }) bool {
		return f.ID == "saml.in-response-to" && f.Level == "error"
	}) {
		t.Errorf("the answer to another request passes: %+v", swapped[1])
	}
	d.fails(3, []string{"The first that is wrong: 1 login.kestrelridge.example/sso", "1 not judged"}, "inspect",
		d.write("mixed.har", recorded(t, now, [][2]string{{request, ""}, {acs, response},
			{"https://unknown.example/cb?code=a&state=b", ""}}, false)))
	whole := recorded(t, now, session, false)
	for _, c := range []struct {
		name, text string
		want       []string
	}{
		{"cut.har", whole[:len(whole)-120], []string{"cut off (messages before the cut: 2)"}},
		{"empty.har", "", []string{"no HTTP Archive", "cut off"}},
		{"none.har", `{"log":{"entries":[]}}`, []string{"no SAML or OAuth message is in it"}},
		{"other.har", `[1]`, []string{"no HTTP Archive", "in place of {"}},
		{"words.har", "a session", []string{"no HTTP Archive"}},
		{"entries.har", `{"log":{"entries":{}}}`, []string{"in place of ["}},
		{"entry.har", `{"log":{"entries":[7]}}`, []string{"entry 1"}},
	} {
		d.fails(1, c.want, "inspect", d.write(c.name, c.text))
	}
	d.fails(2, []string{"a session by itself"}, "inspect", d.path("session.har"), d.path("cut.har"))
	d.fails(1, []string{"there is no file"}, "inspect", d.path("missing.har"))
}

// TestArchiveOfTwoSignIns tells two sign-ins apart that go on at one time, reads a token that the browser itself was
// given, and writes a copy that is safe to send.
func TestArchiveOfTwoSignIns(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const acs = "https://nightlog.kestrelridge.example/saml/acs/"
	read := func(dir, name string) string { return strings.TrimSpace(d.read(filepath.Join(dir, name))) }
	for who, dir := range map[string]string{"mira": "a", "aiyana": "b"} {
		d.ok("rehearse", "nightlog@ridge", "--as", who, "--keep", d.path(dir), "--dry-run")
	}
	d.ok("rehearse", "skyview@ridge", "--as", "mira", "--keep", d.path("c"), "--dry-run")
	const request, response = "01-nightlog@ridge-request.txt", "02-nightlog@ridge-response.txt"
	session := [][2]string{{read("a", request), ""}, {read("b", request), ""}, {acs, read("a", response)},
		{acs, read("b", response)}}
	now := time.Date(2031, 3, 4, 9, 0, 1, 0, time.UTC)
	archive := recorded(t, now, session, false)
	d.write("two.har", archive)
	// The requests are signed with a stand-in's key, which is not the app's; each response answers its own request.
	d.fails(3, []string{"2 accepted, 2 refused", "(sign-in 1)", "(sign-in 2)"}, "inspect", "two.har")
	// The answer of a token endpoint, to an app that runs in the browser.
	list, err := os.ReadDir(d.path("c"))
	if err != nil {
		t.Fatal(err)
	}
	token := ""
	for _, f := range list {
		if strings.HasSuffix(f.Name(), "id-token.txt") {
			token = read("c", f.Name())
		}
	}
	body, err := json.Marshal(map[string]string{"id_token": token, "access_token": "x"})
	if err != nil || token == "" {
		t.Fatal(err)
	}
	answer := `{"log":{"entries":[{"startedDateTime":"2031-03-04T09:00:01Z","request":{"method":"POST",` +
		`"url":"https://login.kestrelridge.example/token"},` +
		`"response":{"content":{"mimeType":"application/json","text":` + string(mustJSON(t, string(body))) + `}}}]}}`
	d.write("token.har", answer)
	d.fails(0, []string{"1 accepted, 0 refused", "ID token"}, "inspect", "token.har", "--trust", "skyview@ridge")
	// Safe to send: neither who it is nor what would let somebody in.
	d.fails(3, nil, "inspect", "two.har", "--safe-copy", "safe.har")
	safe := d.read("safe.har")
	for _, w := range []string{"Solano", "mira.solano", "SignatureValue\\u003eMII", read("a", response)[:60]} {
		if strings.Contains(safe, w) {
			t.Errorf("the copy holds %q", w)
		}
	}
	var har struct {
		Log struct {
			Entries []struct{ Request struct{ URL, Comment string } }
		}
	}
	if err := json.Unmarshal([]byte(safe), &har); err != nil || len(har.Log.Entries) != 4 ||
		!strings.Contains(har.Log.Entries[2].Request.Comment, "mail-") {
		t.Errorf("%v %s", err, safe)
	}
	d.write("one.txt", read("a", response))
	d.ok("inspect", "one.txt", "--trust", "nightlog@ridge", "--safe-copy", "one.safe", "--redact")
	if s := d.read("one.safe"); strings.Contains(s, "Solano") || !strings.Contains(s, "(left out)") {
		t.Errorf("%s", s)
	}
	out := d.ok("inspect", "one.txt", "--trust", "nightlog@ridge", "--redact")
	if strings.Contains(out, "Solano") || !strings.Contains(out, "ACCEPTED") {
		t.Errorf("%s", out)
	}
	d.fails(2, []string{"is of one file"}, "inspect", "-", "--safe-copy", "x")
}

func mustJSON(t *testing.T, s string) []byte {
	t.Helper()
	b, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestRedact shows no names and addresses of people in any format, and the same word for the same person.
func TestRedact(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for _, args := range [][]string{{"people", "list"}, {"people", "list", "--format", "json"}, {"people", "show",
		"mira"},
		{"claims", "preview", "nightlog@ridge", "--as", "mira"}, {"journal", "list"}, {"accounts", "match",
			"nightlog@ridge"},
		{"report", "--out", "-"}, {"rehearse", "nightlog@ridge", "--as", "mira", "--dry-run"}} {
		r := d.run(append(args, "--redact")...)
		for _, w := range []string{"Solano", "mira.solano", "tobias.renn@", "Lindqvist"} {
			if strings.Contains(r.out+r.err, w) {
				t.Errorf("%v shows %q", args, w)
			}
		}
		if len(r.out) == 0 {
			t.Errorf("%v says nothing: %s", args, r.err)
		}
	}
	// A name that is written with escapes in each form, an attribute that is a number, lines that break within both.
	d.write("more.json", `[{"uid":"o.dal","displayName":"Sibeal O'Dal & Daughters <the elder>",`+
		`"givenName":"Sibeal Aoife","sn":"O'Dal & Daughters","mail":"o'dal@kestrelridge.example",`+
		`"employeeNumber":"100"}]`)
	d.ok("people", "load", "more.json", "--yes")
	d.ok("trust", "change", "nightlog@ridge", "--admits", "group:observers", "--admits", "person:o.dal")
	encoded := regexp.MustCompile(`[A-Za-z0-9+/_-]{40,}=*`)
	for _, args := range [][]string{{"people", "list"}, {"people", "show", "o.dal"}, {"people", "access", "o.dal"},
		{"claims", "preview", "nightlog@ridge", "--as", "o.dal"}, {"journal", "list"},
		{"trust", "show", "nightlog@ridge"}} {
		for _, as := range []string{"table", "json", "yaml", "csv", "markdown"} {
			for _, wide := range []string{"60", "120"} {
				out := d.run(append(args, "--redact", "--format", as, "--width", wide)...).out
				out = encoded.ReplaceAllString(out, "…") // three letters stand in any certificate sooner or later
				for _, w := range []string{"Dal", "Daughters", "Sibeal", "Aoife", "dal@"} {
					if strings.Contains(out, w) {
						t.Errorf("%v as %s shows %q:\n%s", args, as, w, out)
					}
				}
				if as == "json" && !json.Valid([]byte(out)) {
					t.Errorf("%v is no JSON:\n%s", args, out)
				}
			}
		}
	}
	d.ok("report", "--out", "all.html", "--redact")
	d.ok("report", "nightlog@ridge", "--out", "one.html", "--redact")
	for _, page := range []string{d.read("all.html"), d.read("one.html"), d.ok("report", "--out", "-", "--redact")} {
		for _, w := range []string{"Solano", "O&#39;Dal", "O'Dal", "Daughters", "o.dal"} {
			if strings.Contains(page, w) {
				t.Errorf("the report shows %q", w)
			}
		}
		if !strings.Contains(page, "viewBox") || strings.Contains(page, `="employeeNumber-`) {
			t.Error("the mask is over what places a drawing")
		}
	}
	// What stands in a column is as wide as what is shown.
	for _, l := range strings.Split(d.ok("people", "list", "--redact", "--width", "200"), "\n") {
		if strings.Contains(l, "person-") && strings.Contains(l, strings.Repeat(" ", 60)) {
			t.Errorf("a column has the width of what is hidden: %q", l)
		}
	}
	a, b := d.ok("people", "show", "mira", "--redact"), d.ok("people", "show", "mira", "--redact")
	if a != b {
		t.Error("the words differ from time to time")
	}
	var list []json.RawMessage
	d.json(&list, "people", "list", "--redact")
	if len(list) == 0 {
		t.Error("no JSON")
	}
}
