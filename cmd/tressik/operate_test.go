package main

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	ics "github.com/emersion/go-ical"

	"tressik.example/internal/testkit/peer"
)

type outcome struct {
	ID       int
	Trust    string
	As       string
	Holds    bool
	Findings findings
	Since    []struct{ Action string }
}

func (d *desk) expects(args ...string) (list []outcome, r result) {
	d.t.Helper()
	r = d.json(&list, append([]string{"expect", "run"}, args...)...)
	return list, r
}

// TestExpectations keeps what is to be true and runs it again: it holds, it breaks with a change that is named, it is
// tried on a copy first, and it says so of people who left.
func TestExpectations(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust, courier = "nightlog@ridge", "frame-courier@ridge"
	mail := "mail=mira.solano@kestrelridge.example"
	for _, args := range [][]string{{trust, "--as", "mira", "--admitted", "--claim", mail, "--without", "phone"},
		{trust, "--as", "petra", "--refused", "--by", "policy"},
		{courier, "--admitted", "--answered", "telescope-api:frames.read", "--denied", "telescope-api:frames.write",
			"--at-most",
			"access-token=15m"}} {
		d.ok(append([]string{"expect", "add"}, args...)...)
	}
	d.ok("rehearse", trust, "--as", "mira")
	d.ok("expect", "record", trust)
	list, r := d.expects()
	if r.code != 0 || len(list) != 4 || slices.ContainsFunc(list, func(x outcome) bool { return !x.Holds }) {
		t.Fatalf("%d %+v", r.code, list)
	}
	// Tried on a copy, the change breaks what is named, and the ledger stays as it is.
	list, r = d.expects("--before-change", "trust change "+trust+" --admits 'group:directors'")
	if broken := brokenOf(list); r.code != 3 || !slices.Equal(broken, []string{"mira", "mira"}) {
		t.Errorf("before the change: %d %v", r.code, broken)
	}
	if _, r = d.expects(trust); r.code != 0 {
		t.Errorf("the ledger itself: %d", r.code)
	}
	d.fails(1, []string{"the change cannot be made", "group:"}, "expect", "run", "--before-change",
		"trust change "+trust+" --admits nonsense")
	d.fails(2, []string{"name a command that changes the ledger"}, "expect", "run", "--before-change", "stage")
	d.fails(2, []string{"name a command that changes the ledger"}, "expect", "run", "--before-change", "")
	d.fails(2, []string{"a quote is not closed"}, "expect", "run", "--before-change", "trust change 'x")
	// Made, it is named with who did it.
	d.ok("trust", "change", trust, "--admits", "group:directors")
	r = d.fails(3, []string{"1 of 3 passes", "aiyana did trust.change (admits",
		"aiyana  trust.change admits from group:observers to group:directors"}, "expect", "run", trust,
		"--junit", "e.xml")
	var suites struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suites   []struct {
			Cases []struct {
				Failure *struct {
					Message string `xml:"message,attr"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal([]byte(d.read("e.xml")), &suites); err != nil || suites.Tests != 3 || suites.Failures != 2 {
		t.Errorf("%v %+v", err, suites)
	}
	d.ok("trust", "change", trust, "--admits", "group:observers")
	// A scope that is granted is a call that is answered.
	d.ok("permission", "ask", courier, "telescope-api:frames.write")
	d.ok("consent", "give", courier, "telescope-api:frames.write", "--for", "everyone")
	list, _ = d.expects(courier)
	if len(list) != 1 || list[0].Holds || list[0].Findings[0].ID != "expect.call" ||
		list[0].Findings[0].Saw != "answered" {
		t.Errorf("%+v", list)
	}
	// People who left.
	d.write("few.json", `{"persons":[{"id":"petra","attributes":{"mail":["petra@southmere.example"]}}]}`)
	people := strings.ReplaceAll(d.read("observatory.ldif"), "uid: mira\n", "uid: mirabel\n")
	d.write("others.ldif", people)
	d.ok("people", "load", "others.ldif", "--replace", "--yes")
	list, _ = d.expects(trust)
	if !slices.ContainsFunc(list, func(x outcome) bool {
		return x.As == "mira" && len(x.Findings) == 1 && x.Findings[0].ID == "expect.person"
	}) {
		t.Errorf("%+v", list)
	}
	for _, x := range list {
		if x.As == "mira" {
			d.ok(x.Findings[0].Fix.Run...)
		}
	}
	if list, _ = d.expects(trust); len(list) != 1 {
		t.Errorf("%d are left", len(list))
	}
}

func brokenOf(list []outcome) (who []string) {
	for _, x := range list {
		if !x.Holds {
			who = append(who, x.As)
		}
	}
	return who
}

// TestExpectationsAreRead refuses what cannot be meant.
func TestExpectationsAreRead(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for _, c := range []struct {
		code  int
		words string
		args  []string
	}{
		{2, "choose one of --admitted and --refused", []string{"nightlog@ridge", "--as", "mira"}},
		{2, "choose one of --admitted and --refused",
			[]string{"nightlog@ridge", "--as", "mira", "--admitted", "--refused"}},
		{2, "who is refused gets nothing",
			[]string{"nightlog@ridge", "--as", "mira", "--refused", "--claim", "mail=x"}},
		{2, "--by is the rule that refuses",
			[]string{"nightlog@ridge", "--as", "mira", "--admitted", "--by", "policy"}},
		{2, "write NAME=VALUE", []string{"nightlog@ridge", "--as", "mira", "--admitted", "--claim", "mail"}},
		{2, "write access-token=15m",
			[]string{"skyview@ridge", "--as", "mira", "--admitted", "--at-most", "session=1h"}},
		{1, "who signs in at nightlog@ridge", []string{"nightlog@ridge", "--admitted"}},
		{1, "nobody signs in there", []string{"frame-courier@ridge", "--as", "mira", "--admitted"}},
		{1, "has neither calls nor tokens", []string{"nightlog@ridge", "--as", "mira", "--admitted", "--answered",
			"telescope-api:frames.read"}},
		{1, "did you mean mira", []string{"nightlog@ridge", "--as", "mirra", "--admitted"}},
		{1, "there is no trust", []string{"nightlog@nowhere", "--as", "mira", "--admitted"}},
	} {
		d.fails(c.code, []string{c.words}, append([]string{"expect", "add"}, c.args...)...)
	}
	d.fails(1, []string{"there is no such expectation 7"}, "expect", "remove", "7")
	d.fails(2, []string{"is no ID"}, "expect", "remove", "x")
	d.fails(0, nil, "federate", "plate-archive", "--with", "southmere")
	d.fails(1, []string{"was not rehearsed yet"}, "expect", "record", "plate-archive@southmere")
}

type checked struct {
	Trusts, Parties, Passed, Accepted int
	Findings                          []struct {
		About, ID, Level string
		Accepted         *struct{ Reason string }
	}
}

func (c *checked) has(about, id string) bool {
	for _, f := range c.Findings {
		if f.About == about && f.ID == id && f.Accepted == nil {
			return true
		}
	}
	return false
}

// TestCheck makes every judgement at once, lets a finding be until a day, and writes what CI reads.
func TestCheck(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	var c checked
	r := d.json(&c, "check")
	if r.code != 3 || c.Trusts < 6 || !c.has("nightlog@ridge", "account.collisions") || !c.has("nightlog@southmere",
		"claims.required") ||
		!c.has("skyview@ridge", "trust.owner") {
		t.Fatalf("%d %+v", r.code, c)
	}
	d.ok("trust", "change", "skyview@ridge", "--owner", "tobias.renn@kestrelridge.example")
	c = checked{}
	if r = d.json(&c, "check", "skyview@ridge"); r.code != 0 || c.Trusts != 1 || c.has("skyview@ridge", "trust.owner") {
		t.Errorf("%d %+v", r.code, c)
	}
	// What is accepted is silent until then, and no longer.
	const trust = "nightlog@ridge"
	d.fails(2, []string{"--reason is missing"}, "check", "accept", trust, "account.collisions", "--until", "2031-06-01")
	d.fails(2, []string{"it is past"}, "check", "accept", trust, "account.collisions", "--reason", "x", "--until",
		"2031-03-01")
	d.fails(2, []string{"more than 400 days away"}, "check", "accept", trust, "account.collisions", "--reason", "x",
		"--until", "2040-01-01")
	d.fails(2, []string{"is no time"}, "check", "accept", trust, "account.collisions", "--reason", "x",
		"--until", "soon")
	d.fails(1, []string{"there is no such finding now"}, "check", "accept", trust, "saml.nothing", "--reason", "x",
		"--until", "2031-06-01")
	d.ok("check", "accept", trust, "account.collisions", "--reason", "two guests share a desk", "--until", "2031-06-01")
	d.fails(0, []string{"1 accepted", "two guests share a desk (aiyana)"}, "check", trust, "--sarif", "c.sarif",
		"--junit", "c.xml")
	var sarif struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
				Suppressions  []struct{ Justification string }
			}
		}
	}
	if err := json.Unmarshal([]byte(d.read("c.sarif")), &sarif); err != nil || sarif.Version != "2.1.0" ||
		len(sarif.Runs) != 1 ||
		len(sarif.Runs[0].Tool.Driver.Rules) == 0 {
		t.Fatalf("%v %+v", err, sarif)
	}
	let := 0
	for _, x := range sarif.Runs[0].Results {
		let += len(x.Suppressions)
		if x.RuleID == "" || x.Level == "" || x.Message.Text == "" {
			t.Errorf("%+v", x)
		}
	}
	if let != 1 || !strings.Contains(d.read("c.xml"),
		"<skipped message=\"accepted until 2031-06-01: two guests share a desk\"") {
		t.Errorf("%d suppressions\n%s", let, d.read("c.xml"))
	}
	d.env = append(d.env, "TRESSIK_NOW=2031-06-02T09:00:00Z")
	d.fails(3, []string{"account.collisions"}, "check", trust)
	d.env = d.env[:len(d.env)-1]
	d.ok("check", "reopen", trust, "account.collisions")
	d.fails(3, []string{"account.collisions"}, "check", trust)
	d.fails(1, []string{"is not accepted"}, "check", "reopen", trust, "account.collisions")
	d.fails(1, []string{"there is no trust"}, "check", "nightlog@nowhere")
}

// TestIncludedPermissions has one permission include another: whoever has it may call what the other allows, and a
// client that asks for both is told.
func TestIncludedPermissions(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const api, trust = "telescope-api", "frame-courier@ridge"
	d.ok("permission", "publish", api, "frames.write", "--as", "user,self", "--says", "write frames", "--includes",
		"frames.read")
	d.fails(2, []string{"it includes frames.read itself"}, "permission", "publish", api, "frames.read", "--as",
		"user,self", "--says", "x",
		"--includes", "frames.write")
	d.fails(1, []string{"there is no permission of telescope-api"}, "permission", "publish", api,
		"frames.write", "--as", "self", "--says",
		"x", "--includes", "frames.raed")
	d.ok("permission", "ask", trust, api+":frames.write")
	d.ok("consent", "give", trust, api+":frames.write", "--for", "everyone")
	var c checked
	d.json(&c, "check", trust)
	if !c.has(trust, "privilege.included") {
		t.Errorf("%+v", c.Findings)
	}
	d.ok("permission", "drop", trust, api+":frames.read")
	d.fails(0, []string{"ACCEPTED"}, "rehearse", trust, "--call", api+":frames.read")
	d.fails(1, []string{"frames.write includes it"}, "permission", "unpublish", api, "frames.read")
}

// TestCutover makes a trust live when what has to be true is, follows it on the stage, and takes it back.
func TestCutover(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "skyview@ridge"
	standing := func() string {
		var v struct{ Standing string }
		d.json(&v, "trust", "show", trust)
		return v.Standing
	}
	var r struct{ Readiness struct{ Findings findings } }
	if x := d.json(&r, "cutover", trust); x.code != 3 {
		t.Errorf("%d", x.code)
	}
	for _, id := range []string{"cutover.proof", "cutover.owner", "cutover.way-back"} {
		if !slices.Contains(r.Readiness.Findings.errors(), id) {
			t.Errorf("%s is not wanting: %v", id, r.Readiness.Findings.errors())
		}
	}
	d.ok("trust", "change", trust, "--owner", "tobias.renn@kestrelridge.example")
	d.ok("rehearse", trust, "--as", "mira")
	d.ok("expect", "record", trust)
	back := []string{"cutover", trust, "--way-back", "the printed atlas"}
	for _, c := range []struct {
		words string
		args  []string
	}{{"is in the past", []string{"--when", "2031-03-04T08:00:00Z"}}, {"is no time", []string{"--at", "tomorrow"}},
		{"Sund is no day of the week", []string{"--window", "Sund 02:00-04:00"}}, {"it is empty", []string{"--window",
			"Sun 02:00-02:00"}},
		{"its hours cannot be read", []string{"--window", "Sun 2-4"}}, {"is no time zone", []string{"--window",
			"Sun 02:00-04:00", "--zone", "X"}},
		{"choose one of --when and --window", []string{"--when", "2031-03-09T02:00:00Z", "--window",
			"Sun 02:00-04:00"}},
		{"write group:NAME", []string{"--pilot", "observers"}},
		{"choose one of --pilot and", []string{"--pilot", "group:x", "--side-by-side"}},
		// 30 March 2031: the clocks of central Europe go forward at 02:00
	} {
		d.fails(2, []string{c.words}, append(slices.Clone(back), c.args...)...)
	}
	d.env = append(d.env, "TRESSIK_NOW=2031-03-26T09:00:00Z")
	d.fails(2, []string{"the clocks of Europe/Vienna change in it on 2031-03-30, so that it lasts 1h0m0s"},
		append(back, "--window", "Sun 02:00-04:00", "--zone", "Europe/Vienna")...)
	d.env = d.env[:len(d.env)-1]
	// Something is still wanting: without a reason nothing is changed.
	d.fails(3, []string{"Nothing was changed", "[cutover.proof]"}, append(back, "--yes")...)
	d.fails(3, []string{"in which nobody is"}, append(back, "--pilot", "group:nobody", "--yes")...)
	despite := append(back, "--despite", "only this machine has the app", "--yes")
	d.ok(append(despite, "--window", "Sun 02:00-04:00", "--note", "note.md", "--calendar", "note.ics")...)
	if s := standing(); s != "rehearsed" {
		t.Errorf("a plan makes it %s", s)
	}
	// A plan stands where people look.
	for _, args := range [][]string{{"trust", "list"}, {"trust", "show", trust}, {"due", "--within", "60d"}} {
		if r := d.run(args...); !strings.Contains(strings.Join(strings.Fields(r.out), " "), "2031-03-09 02:00 UTC") {
			t.Errorf("%v: the plan does not stand there:\n%s", args, r.out)
		}
	}
	note := d.read("note.md")
	if !strings.Contains(note, "Sunday, 9 March 2031, 02:00 and 04:00 UTC") || !strings.Contains(note,
		"If you cannot sign in: the printed atlas") ||
		!strings.Contains(note, "tobias.renn@kestrelridge.example") {
		t.Errorf("%s", note)
	}
	// The note is in the zone in which it was planned.
	d.ok(append(despite, "--window", "Sun 02:00-04:00", "--zone", "Europe/Vienna", "--note", "wien.md")...)
	if s := d.read("wien.md"); !strings.Contains(s, "Sunday, 9 March 2031, 02:00 and 04:00 Europe/Vienna") {
		t.Errorf("%s", s)
	}
	d.ok(append(despite, "--window", "Sun 02:00-04:00")...)
	cal, err := ics.NewDecoder(strings.NewReader(d.read("note.ics"))).Decode()
	if err != nil || len(cal.Events()) != 1 {
		t.Fatalf("%v", err)
	}
	if at, err := cal.Events()[0].DateTimeStart(nil); err != nil ||
		at.UTC().Format("2006-01-02 15:04") != "2031-03-09 02:00" {
		t.Errorf("%v %v", at, err)
	}
	d.fails(0, []string{"No plan is due"}, "cutover", "--due")
	d.env = append(d.env, "TRESSIK_NOW=2031-03-09T05:00:00Z")
	d.fails(3, []string{"its window was over"}, "cutover", "--due")
	d.env[len(d.env)-1] = "TRESSIK_NOW=2031-03-09T02:30:00Z"
	d.fails(0, []string{trust, "yes"}, "cutover", "--due")
	d.env = d.env[:len(d.env)-1]
	if s := standing(); s != "live" {
		t.Errorf("after its time: %s", s)
	}
	d.fails(1, []string{"is live already"}, despite...)
	// Paused, nobody gets in; resumed, they do.
	d.ok("cutover", trust, "--pause", "--yes")
	d.fails(3, []string{"is paused"}, "rehearse", trust, "--as", "mira", "--dry-run")
	d.fails(1, []string{"is not live"}, "cutover", trust, "--pause", "--yes")
	d.ok("cutover", trust, "--resume")
	d.fails(0, []string{"ACCEPTED"}, "rehearse", trust, "--as", "mira", "--dry-run")
	d.fails(1, []string{"is not paused"}, "cutover", trust, "--resume")
	d.fails(2, []string{"choose one of --back, --pause and --resume"}, "cutover", trust, "--pause", "--yes", "--back")
	d.ok("cutover", trust, "--back")
	if s := standing(); s != "rehearsed" {
		t.Errorf("taken back it is %s", s)
	}
	d.fails(1, []string{"is not live"}, "cutover", trust, "--back")
	// A pilot lets its group in alone.
	d.ok(append(despite, "--pilot", "group:observers")...)
	d.fails(0, []string{"ACCEPTED"}, "rehearse", trust, "--as", "mira", "--dry-run")
	d.fails(3, []string{"is live for the group observers alone"}, "rehearse", trust, "--as", "ilse", "--dry-run")
	d.fails(2, []string{"TRUST is missing", "--due"}, "cutover")
	d.fails(0, []string{"OnCalendar="}, "cutover", "--schedule", "timer")
	d.fails(2, []string{"write cron or timer"}, "cutover", "--schedule", "daily")
}

// TestStageFollowsCutover has the played app offer its own sign-in before cutover and send people on afterwards.
func TestStageFollowsCutover(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	places, _ := openStage(t, d)
	own := regexp.MustCompile(`href="([^"]*own-sign-in)"`)
	for trust, app := range map[string]string{"skyview@ridge": "skyview", "plate-archive@ridge": "plate-archive"} {
		page := places[app].Page
		_, body, _ := get(t, page)
		m := own.FindStringSubmatch(body)
		if m == nil || !strings.Contains(body, "Nobody is signed in here") {
			t.Fatalf("%s before: %s", app, body)
		}
		d.ok("cutover", trust, "--way-back", "x", "--despite", "a test", "--yes")
		eventually(t, app+" sends people on", func() bool {
			_, body, _ := get(t, page)
			return strings.Contains(body, "<title>Sign in</title>")
		})
		if code, body, _ := get(t, m[1]); code != 200 || !strings.Contains(body, "in an emergency") {
			t.Errorf("%s: %d %s", app, code, body)
		}
	}
}

// TestReport writes the page about everything and about one trust, in each form, and says what changed since.
func TestReport(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("report", "--out", "r.html")
	first := d.read("r.html")
	for _, w := range []string{"<svg", "Map of trusts", "Who can do what", "nightlog@southmere",
		"This is the first report", "prefers-color-scheme:dark",
		"Content-Security-Policy", "only asserted"} {
		if !strings.Contains(first, w) {
			t.Errorf("the report lacks %q", w)
		}
	}
	for _, w := range []string{"<script", "http-equiv=\"refresh\"", " src=\"http", "<link"} {
		if strings.Contains(first, w) {
			t.Errorf("the report has %q: it does not stand by itself", w)
		}
	}
	if fi, err := os.Stat(filepath.Join(d.dir, "r.html")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	d.ok("trust", "change", "skyview@ridge", "--owner", "tobias.renn@kestrelridge.example")
	d.fails(1, []string{"is there already", "--force"}, "report", "--out", "r.html")
	d.ok("report", "--out", "r.md")
	if md := d.read("r.md"); !strings.Contains(md, "| trust.change | skyview@ridge | owner") || strings.Count(md,
		"trust.change") != 1 {
		t.Errorf("%s", md)
	}
	if out := d.ok("report", "--out", "-", "--since", "2031-03-01"); !strings.Contains(out, "since 1 March 2031") {
		t.Error("no change since a day")
	}
	d.ok("report", "nightlog@ridge", "--out", "one.html")
	for _, w := range []string{"Hand-over page", "What it rests on", "What the app is given", "Newest runs",
		"tressik watch nightlog@ridge"} {
		if !strings.Contains(d.read("one.html"), w) {
			t.Errorf("the page of the trust lacks %q", w)
		}
	}
	d.ok("report", "nightlog@ridge", "--out", "one.md")
	d.fails(2, []string{"--out is missing"}, "report")
	d.fails(2, []string{"is no time"}, "report", "--out", "x.html", "--since", "march")
	d.fails(1, []string{"there is no trust"}, "report", "nowhere@ridge", "--out", "x.html")
	if _, err := os.Stat(d.path("x.html")); err == nil {
		t.Error("a report of nothing was written")
	}
	// Names of foreign parties are words alone.
	d.ok("app", "change", "skyview", "--title", `<b onclick="x">Sky & View`)
	d.ok("report", "--out", "s.html")
	if s := d.read("s.html"); strings.Contains(s, "<b onclick") || !strings.Contains(s, "Sky &amp; View") {
		t.Error("a title is written as it is")
	}
}

// TestProof keeps each run with its redacted messages, and takes back what a change no longer lets hold.
func TestProof(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "nightlog@ridge"
	d.ok("rehearse", trust, "--as", "mira")
	rests := func(fact string) string {
		var v struct {
			RestsOn []struct{ Fact, RestsOn string }
		}
		d.json(&v, "trust", "show", trust)
		for _, f := range v.RestsOn {
			if f.Fact == fact {
				return f.RestsOn
			}
		}
		return ""
	}
	for fact, want := range map[string]string{"issuer": "rehearsed", "claims": "rehearsed",
		"signingKeys": "rehearsed", "signOut": "asserted"} {
		if got := rests(fact); got != want {
			t.Errorf("%s rests on %s", fact, got)
		}
	}
	var list []struct{ Run int }
	d.json(&list, "proof", "list", trust)
	r := d.ok("proof", "show", trust)
	for _, w := range []string{"AuthnRequest", "name-id-1", "(left out)", "@redacted.invalid"} {
		if !strings.Contains(r, w) {
			t.Errorf("the run lacks %q", w)
		}
	}
	messages := r[strings.Index(r, "Message 1"):]
	for _, w := range []string{"mira.solano@", "Solano"} {
		if strings.Contains(messages, w) {
			t.Errorf("the messages hold %q", w)
		}
	}
	d.ok("rehearse", "skyview@ridge", "--as", "mira")
	r = d.ok("proof", "show", "skyview@ridge")
	if tokens := regexp.MustCompile(`eyJ[A-Za-z0-9_-]{20,}`).FindString(r[strings.Index(r,
		"Message 1"):]); tokens != "" {
		t.Errorf("a token was kept: %s", tokens)
	}
	d.ok("claims", "set", trust, "phone=person.telephoneNumber")
	if a, b := rests("claims"), rests("issuer"); a != "asserted" || b != "rehearsed" {
		t.Errorf("after a change of claims: claims %s, issuer %s", a, b)
	}
	d.fails(1, []string{"there is no run 999"}, "proof", "show", trust, "999")
	d.fails(2, []string{"is no run"}, "proof", "show", trust, "x")
	d.fails(0, nil, "federate", "plate-archive", "--with", "southmere")
	d.fails(1, []string{"nothing was kept"}, "proof", "show", "plate-archive@southmere")
	d.fails(0, []string{"Nothing was kept"}, "proof", "list", "plate-archive@southmere")
}

// TestOldProof says of live trusts that their proof is old or gone, and of secrets that nobody uses.
func TestOldProof(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "skyview@ridge"
	d.ok("rehearse", trust, "--as", "mira")
	d.ok("cutover", trust, "--way-back", "x", "--despite", "a test", "--yes")
	var c checked
	d.json(&c, "check", trust)
	if !c.has(trust, "expect.none") || c.has(trust, "proof.old") {
		t.Errorf("%+v", c.Findings)
	}
	d.env = append(d.env, "TRESSIK_NOW=2031-07-04T09:00:00Z")
	c = checked{}
	d.json(&c, "check", trust, "dome-scheduler@ridge")
	if !c.has(trust, "proof.old") {
		t.Errorf("%+v", c.Findings)
	}
	var secrets []struct{ ID string }
	d.env[len(d.env)-1] = "TRESSIK_NOW=2031-03-04T09:00:00Z"
	d.ok("secret", "add", "dome-scheduler@ridge", "--lasts", "300d")
	d.json(&secrets, "secret", "list", "dome-scheduler@ridge")
	d.env[len(d.env)-1] = "TRESSIK_NOW=2031-07-04T09:00:00Z"
	c = checked{}
	d.json(&c, "check", "dome-scheduler@ridge")
	if !c.has("dome-scheduler@ridge", "secret.unused") {
		t.Errorf("%+v", c.Findings)
	}
	d.ok("secret", "retire", "dome-scheduler@ridge", secrets[len(secrets)-1].ID, "--yes")
	d.ok("trust", "change", trust, "--strength", "mfa")
	c = checked{}
	if r := d.json(&c, "check", trust); r.code != 3 || !c.has(trust, "proof.none") {
		t.Errorf("%+v", c.Findings)
	}
}

// TestReportInABrowser opens the report in Chromium: the drawings stand on the page, nothing sticks out, nothing is
// fetched.
func TestReportInABrowser(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	d := demoed(t)
	d.ok("report", "--out", "r.html")
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium)
	b.call("Network.enable", nil)
	b.open("file://" + d.path("r.html"))
	b.until(`document.querySelectorAll("svg").length === 2`)
	for what, js := range map[string]string{
		"a line for each trust": `document.querySelectorAll("svg g.trust").length === 7`,
		"nothing sticks out":    `document.documentElement.scrollWidth <= document.documentElement.clientWidth`,
		"no text leaves the map": `[...document.querySelector("svg").querySelectorAll("text")].` +
			`every(t => { const r = ` +
			`t.getBBox(); return r.x >= 0 && r.x + r.width <= 1160; })`,
		"a matrix": `document.querySelectorAll("table.matrix td.mid").length > 3`,
		"each trust has its word": `[...document.querySelectorAll("svg g.trust title")].` +
			`every(t => t.textContent.includes` +
			`("@"))`,
	} {
		if b.eval(js) != "true" {
			t.Errorf("not so: %s", what)
		}
	}
	for _, e := range b.events {
		if e.Method == "Network.requestWillBeSent" && !strings.Contains(string(e.Params), "r.html") {
			t.Errorf("the page asks for something: %s", e.Params)
		}
	}
	b.call("Emulation.setEmulatedMedia", map[string]any{"features": []map[string]string{{"name": "prefers-color-scheme",
		"value": "dark"}}})
	if b.eval(`getComputedStyle(document.body).backgroundColor`) == "rgb(251, 250, 246)" {
		t.Error("it stays light in the dark")
	}
}
