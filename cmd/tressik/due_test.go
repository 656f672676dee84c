package main

import (
	"bytes"
	"io"
	"strings"
	"testing"

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
	d.fails(0, []string{"Nothing runs out within 30d"}, "due", "--within", "30d")
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
	// A rollover that waits is there until it is done, and a person who waits for a consent.
	d.at("2031-03-04T09:00:00Z")
	d.ok("key", "announce", "ridge")
	d.fails(0, []string{"waits for nightlog@ridge,", "plate-archive@ridge", "key plan ridge"}, "due")
	d.ok("key", "activate", "ridge", "--break", "nightlog@ridge,plate-archive@ridge")
	d.fails(0, []string{"withdraw k-", "safe from then on"}, "due")
	// Metadata that ends.
	end := strings.Replace(d.read("southmere-metadata.xml"), ` entityID="`, ` validUntil="2031-04-01T00:00:00Z" entityID="`, 1)
	d.fails(1, []string{"That signer is known from before", "--signed-by FILE", "--accept"}, "provider", "change", "southmere",
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
	if f := fams["tressik_due_seconds"]; f == nil || len(f.Metric) != len(want) || f.Metric[0].GetGauge().GetValue() > 40*86400 {
		t.Errorf("%v", fams)
	}
	d.ok("due", "--calendar", "--out", "due.ics")
	d.fails(2, []string{"due.ics is there already"}, "due", "--calendar", "--out", "due.ics")
	d.fails(2, []string{"choose one"}, "due", "--calendar", "--metrics")
	d.fails(2, []string{"soon"}, "due", "--within", "soon")
}
