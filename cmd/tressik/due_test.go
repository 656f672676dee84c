package main

import (
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	ical "github.com/emersion/go-ical"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// at sets the program's clock for what follows.
func (d *desk) at(clock string) {
	for i, e := range d.env {
		if strings.HasPrefix(e, "TRESSIK_NOW=") {
			d.env[i] = "TRESSIK_NOW=" + clock
			return
		}
	}
	d.env = append(d.env, "TRESSIK_NOW="+clock)
}

// TestDue lets time pass, and reads the calendar and the metrics with parsers of others.
func TestDue(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.at("2031-03-04T09:00:00Z")
	type item struct {
		ID, Kind, About, What, At string
		Overdue                   bool
		Tell                      []string
	}
	due := func(code int, args ...string) []item {
		t.Helper()
		var list []item
		r := d.json(&list, append([]string{"due"}, args...)...)
		if r.code != code {
			t.Errorf("due %v ends with %d, want %d\n%s%s", args, r.code, code, r.out, r.err)
		}
		return list
	}
	soon := due(0, "--within", "30d")
	if len(soon) != 0 {
		t.Errorf("within 30 days: %v", soon)
	}
	d.fails(0, []string{"Nothing expires in the next 30 days"}, "due", "--within", "30d")
	far := due(0, "--within", "2000d")
	kinds := map[string]string{}
	for i, x := range far {
		kinds[x.Kind+" "+x.About] = x.What
		if i > 0 && x.At < far[i-1].At {
			t.Errorf("%s stands behind %s", x.At, far[i-1].At)
		}
	}
	for _, want := range []string{"secret dome-scheduler@ridge", "secret frame-courier@ridge", "certificate nightlog",
		"certificate plate-archive", "certificate southmere", "certificate ridge"} {
		if kinds[want] == "" {
			t.Errorf("no %s in %v", want, kinds)
		}
	}
	// A secret that is replaced runs out no more; one that is not is overdue some day.
	d.ok("secret", "add", "dome-scheduler@ridge", "--lasts", "200d")
	d.at("2031-07-01T09:00:00Z")
	list := due(3)
	if len(list) != 1 || list[0].About != "frame-courier@ridge" || !list[0].Overdue {
		t.Errorf("%+v", list)
	}
	// What was said is not said again, until it is overdue.
	d.fails(3, []string{"frame-courier@ridge"}, "due", "--since-last")
	d.fails(0, []string{"Nothing is new"}, "due", "--since-last")
	d.at("2031-03-04T09:00:00Z")
	d.fails(0, []string{"frame-courier@ridge"}, "due", "--since-last", "--within", "90d")
	d.fails(0, []string{"Nothing is new"}, "due", "--since-last", "--within", "90d")
	d.at("2031-07-01T09:00:00Z")
	d.fails(3, []string{"OVERDUE", "frame-courier@ridge"}, "due", "--since-last", "--within", "90d")
	d.fails(2, []string{"say everything"}, "due", "--since-last", "--metrics")
	// A rollover that waits is there until it is done, and a person who waits for a consent.
	d.at("2031-03-04T09:00:00Z")
	d.ok("key", "announce", "ridge")
	d.fails(0, []string{"waits for nightlog@ridge,", "plate-archive@ridge", "key plan ridge"}, "due")
	d.ok("key", "activate", "ridge", "--break", "nightlog@ridge,plate-archive@ridge")
	d.fails(0, []string{"withdraw k-", "safe from then on"}, "due")
	// Metadata that ends.
	end := strings.Replace(d.read("southmere-metadata.xml"), ` entityID="`,
		` validUntil="2031-04-01T00:00:00Z" entityID="`, 1)
	d.fails(1, []string{"That signer is known from before", "--signed-by FILE", "--accept"}, "provider", "change",
		"southmere",
		"--metadata", d.write("southmere-2.xml", end))
	d.ok("provider", "change", "southmere", "--metadata", "southmere-2.xml", "--accept")
	d.fails(0, []string{"southmere", "its metadata ends", "tell service@southmere.example"}, "due")

	cal, err := ical.NewDecoder(strings.NewReader(d.ok("due", "--within", "2000d", "--calendar"))).Decode()
	if err != nil {
		t.Fatal(err)
	}
	want := due(0, "--within", "2000d")
	if len(cal.Events()) != len(want) {
		t.Errorf("%d events, %d dates", len(cal.Events()), len(want))
	}
	seen := map[string]bool{}
	for i, e := range cal.Events() {
		uid, _ := e.Props.Text(ical.PropUID)
		summary, err := e.Props.Text(ical.PropSummary)
		start, err2 := e.DateTimeStart(nil)
		if err != nil || err2 != nil || seen[uid] || summary != want[i].About+": "+want[i].What ||
			start.Format("2006-01-02") != want[i].At[:10] {
			t.Errorf("%v %v: %s, %s, %s; want %+v", err, err2, uid, summary, start, want[i])
		}
		seen[uid] = true
	}
	text := d.ok("due", "--within", "2000d", "--metrics")
	if !strings.HasSuffix(text, "# EOF\n") {
		t.Error("the metrics have no end")
	}
	dec := expfmt.NewTextParser(model.UTF8Validation)
	fams, err := dec.TextToMetricFamilies(bytes.NewReader([]byte(strings.TrimSuffix(text, "# EOF\n"))))
	if err != nil && err != io.EOF {
		t.Fatal(err)
	}
	if f := fams["tressik_due_seconds"]; f == nil || len(f.Metric) != len(want) ||
		f.Metric[0].GetGauge().GetValue() > 40*86400 {
		t.Errorf("%v", fams)
	}
	d.ok("due", "--calendar", "--out", "due.ics")
	d.fails(1, []string{"due.ics is there already"}, "due", "--calendar", "--out", "due.ics")
	d.fails(2, []string{"choose one"}, "due", "--calendar", "--metrics")
	d.fails(2, []string{"soon"}, "due", "--within", "soon")
}

// TestSchedule runs what docs/operate.md gives to a scheduler, as it is written there.
func TestSchedule(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.at("2031-07-01T09:00:00Z") // a secret is overdue
	doc, err := os.ReadFile("../../docs/operate.md")
	if err != nil {
		t.Fatal(err)
	}
	var cron, service, timer string
	for _, block := range strings.Split(string(doc), "```")[1:] {
		switch {
		case strings.HasPrefix(block, "cron\n"):
			cron = strings.TrimSpace(strings.TrimPrefix(block, "cron\n"))
		case strings.HasPrefix(block, "ini\n[Unit]") && strings.Contains(block, "[Service]"):
			service = strings.TrimPrefix(block, "ini\n")
		case strings.HasPrefix(block, "ini\n[Unit]"):
			timer = strings.TrimPrefix(block, "ini\n")
		}
	}
	sh := func(line string) (string, int) {
		c := exec.Command("sh", "-c", strings.ReplaceAll(line, "/srv/tressik", d.dir))
		c.Dir, c.Env = d.dir, append([]string{"PATH=" + filepath.Dir(built) + ":/usr/bin:/bin"}, d.env...)
		out, err := c.CombinedOutput()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			t.Fatal(err)
		}
		return string(out), c.ProcessState.ExitCode()
	}
	// cron: five fields, then a line for sh; an unescaped % would end it (crontab(5)).
	fields := strings.SplitN(cron, " ", 6)
	if len(fields) != 6 || strings.Contains(fields[5], "%") {
		t.Fatalf("the cron line: %q", cron)
	}
	if out, code := sh(fields[5]); code != 3 || !strings.Contains(out, "OVERDUE") ||
		strings.Count(out, "unchanged") != 2 {
		t.Errorf("cron: %d\n%s", code, out)
	}
	// systemd: the lines of a oneshot run one after the other, and end with the first that fails, if it has no dash.
	failed := 0
	for _, line := range strings.Split(service, "\n") {
		command, is := strings.CutPrefix(line, "ExecStart=")
		command, may := strings.CutPrefix(command, "-")
		if !is || failed != 0 {
			continue
		}
		out, code := sh(command)
		if code != 0 && !may {
			failed = code
		}
		if strings.Contains(command, "due") && !strings.Contains(out, "Nothing is new") &&
			!strings.Contains(out, "OVERDUE") {
			t.Errorf("%s\n%s", command, out)
		}
	}
	units, err := exec.LookPath("systemd-analyze")
	if err != nil {
		return // its grammar is held where it is at hand
	}
	service = strings.NewReplacer("=-tressik", "=-"+built, "=tressik", "="+built, "/srv/tressik", d.dir,
		"User=tressik\n", "").
		Replace(service)
	if out, err := exec.Command(units, "verify", d.path(d.write("tressik-due.service", service)),
		d.path(d.write("tressik-due.timer", timer))).CombinedOutput(); err != nil || strings.Contains(string(out),
		"tressik-due") {
		t.Errorf("systemd-analyze: %v\n%s", err, out)
	}
}

// TestEndsElsewhere enters what ends at a foreign side: it is in due, an authorisation that ends unused from when it
// was seen in use.
func TestEndsElsewhere(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "ridge@southmere"
	d.ok("trust", "change", trust, "--ends", "client secret=2031-04-01", "--ends", "authorisation=unused:30d")
	type item struct {
		Kind, About, What string
		At                time.Time
		Fix               struct{ Then struct{ Run []string } }
	}
	ends := func() map[string]item {
		var list []item
		d.json(&list, "due", "--within", "400d")
		out := map[string]item{}
		for _, x := range list {
			if x.Kind == "elsewhere" && x.About == trust {
				what, _, _ := strings.Cut(x.What, " ends")
				out[what] = x
			}
		}
		return out
	}
	got := ends()
	if len(got) != 2 || got["client secret"].At.Format(time.DateOnly) != "2031-04-01" ||
		got["authorisation"].At.Format(time.DateOnly) != "2031-04-03" ||
		!strings.Contains(got["authorisation"].What, "unused for 30 days") {
		t.Errorf("%+v", got)
	}
	d.fails(0, []string{"client secret ends: 2031-04-01"}, "trust", "show", trust)
	d.ok(got["authorisation"].Fix.Then.Run...) // renewed
	// Renewed there, it is entered anew; taken away, it is gone. What was shown of the trust stays.
	before := d.proofOf(trust)
	d.ok("trust", "change", trust, "--ends", "client secret=2032-01-01", "--ends", "authorisation=none")
	if got = ends(); len(got) != 1 || got["client secret"].At.Format(time.DateOnly) != "2032-01-01" {
		t.Errorf("%+v", got)
	}
	if after := d.proofOf(trust); after != before {
		t.Errorf("it was %s, and is %s", before, after)
	}
	for _, bad := range []string{"client secret", "=2031-01-01", "x=soon", "x=unused:long", "x=none"} {
		d.fails(2, []string{"--ends", "is not usable"}, "trust", "change", trust, "--ends", bad)
	}
}
