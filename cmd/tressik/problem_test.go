package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// TestErrorsForPrograms: with --format json an error is JSON on standard error, whatever went wrong, with the exit
// status, what was given, by which flag, and what would do; and nothing is on standard output.
func TestErrorsForPrograms(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	type problem struct {
		What, Value string
		Flags, Near []string
		Remedy      *struct{ Run []string }
		ExitStatus  int
	}
	for _, c := range []struct {
		args  string
		value string
		flag  string
		near  string
		run   string
	}{
		{"trust show nightlok@ridge", "nightlok@ridge", "", "nightlog@ridge", ""},
		{"trust list --frmat json", "--frmat", "--frmat", "--format", ""},
		{"trust shw x", "shw", "", "show", ""},
		{"trsut list", "trsut", "", "trust", ""},
		{"help trust shw", "shw", "", "show", ""},
		{"app change nightlog --fetches-from x", "x", "--fetches-from", "", ""},
		{"trust change nightlog@ridge --strength strong", "strong", "--strength", "", ""},
		{"accounts match skyview@ridge", "", "", "", "accounts load skyview FILE"},
		{"metadata read none.xml", "", "", "", ""},
	} {
		r := d.run(append(strings.Fields(c.args), "--format", "json")...)
		var got struct{ Error problem }
		if err := json.Unmarshal([]byte(r.err), &got); err != nil || r.out != "" {
			t.Errorf("%s: %v: %s%s", c.args, err, r.out, r.err)
			continue
		}
		e := got.Error
		run := ""
		if e.Remedy != nil {
			run = strings.Join(e.Remedy.Run, " ")
		}
		if e.What == "" || e.ExitStatus != r.code || e.Value != c.value || run != c.run ||
			strings.Join(e.Flags, " ") != c.flag || c.near != "" && (len(e.Near) == 0 || e.Near[0] != c.near) {
			t.Errorf("%s: %d %+v", c.args, r.code, e)
		}
	}
	// People read words.
	d.fails(1, []string{"tressik: there is no trust"}, "trust", "show", "nightlok@ridge")
}

// TestHabits: what people try first is understood, or answered with what it is called here.
func TestHabits(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	if s := d.ok("--version"); !strings.HasPrefix(s, "tressik ") || strings.Count(s, "\n") != 1 {
		t.Errorf("%q", s)
	}
	for args, near := range map[string]string{
		"app delete nightlog": "remove", "app rm nightlog": "remove", "app create x": "add", "trust get x": "show",
		"trust ls": "list", "secret revoke x": "retire", "people import x": "load", "charter apply x": "enact",
		"charter diff x": "compare", "provider update ridge": "change", "consent grant x": "give",
		"help nosuch": "--help", "nosuch --help": "nosuch", "trust shw --help": "show", "help trust shw": "show",
		"trsut list": "trust", "trust list --frmt x": "--format",
		"trust list --actro x": "--actor", "trust list -z": "--help",
	} {
		d.fails(2, []string{near}, strings.Fields(args)...)
	}
	if s := d.ok("help", "trust", "show"); !strings.Contains(s, "tressik trust show TRUST") {
		t.Errorf("%s", s)
	}
	// A wrong value is wrong usage, with the flag that was typed; what is wrong in the ledger is not.
	d.fails(2, []string{"--reads"}, "app", "change", "nightlog", "--reads", "x")
	d.fails(2, []string{"--lasts"}, "secret", "add", "dome-scheduler@ridge", "--lasts", "401d")
	d.fails(1, []string{"already in the ledger"}, "federate", "nightlog", "--with", "ridge")
}

// TestStandardOutput: - is standard output wherever a file can be written, what is shown once included; where several
// files are written, or nobody is to see what is, it is refused. Nowhere is a file of that name made.
func TestStandardOutput(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for args, begins := range map[string]string{
		"charter write": "charter: ", "charter schema": "{", "due --calendar": "BEGIN:VCALENDAR",
		"report":               "<!doctype html",
		"metadata write ridge": "<?xml", "claims export nightlog@ridge": "",
		"accounts carry skyview --to ridge --table t.csv":            "person,mail,subject",
		"token get frame-courier@ridge --secret-file courier.secret": "ey",
	} {
		d.write("t.csv", "person,subject\nmira,a\n")
		s := d.ok(append(strings.Fields(args), "--out", "-")...)
		if !strings.HasPrefix(strings.ToLower(s), strings.ToLower(begins)) || s == "" {
			t.Errorf("%s: %.60s", args, s)
		}
	}
	if s := strings.TrimSpace(d.ok("secret", "add", "dome-scheduler@ridge", "--lasts", "9d", "--out",
		"-")); len(s) != 43 {
		t.Errorf("a secret: %q", s)
	}
	if s := strings.TrimSpace(d.ok("registrar", "add", "pipeline", "--at-provider", "ridge", "--kinds", "machine",
		"--lasts",
		"9d", "--actor", "aiyana", "--out", "-")); len(s) != 43 {
		t.Errorf("a token: %q", s)
	}
	d.fails(2, []string{"name a folder"}, "handoff", "nightlog@ridge", "--for", "app", "--out", "-")
	d.fails(2, []string{"shown to nobody"}, "secret", "renew", "frame-courier@ridge", "--lasts", "9d", "--out", "-")
	if _, err := os.Stat(d.path("-")); err == nil {
		t.Error("a file called - was made")
	}
}

// TestResultsHaveNoHoles: in what programs read no list is null and no time is zero.
func TestResultsHaveNoHoles(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("accounts", "load", "nightlog", "nightlog-accounts.csv")
	d.ok("key", "announce", "ridge")
	d.ok("registrar", "add", "pipeline", "--at-provider", "ridge", "--kinds", "machine", "--lasts", "9d", "--actor",
		"aiyana", "--quiet")
	for _, args := range []string{"trust list", "app list", "provider list", "trust show nightlog@ridge", "check",
		"trust show skyview@ridge", "trust compare skyview@ridge dome-scheduler@ridge", "provider show ridge", "next",
		"provider show southmere", "app show nightlog", "app show telescope-api", "due --within 900d", "key list ridge",
		"key plan ridge", "journal list", "proof list nightlog@ridge", "people list", "people show mira",
		"people access mira", "claims list nightlog@ridge", "claims preview nightlog@ridge --as mira",
		"claims preview skyview@ridge --as mira", "claims gaps nightlog@ridge", "claims suggest plate-archive@ridge",
		"accounts match nightlog@ridge", "accounts carry skyview --to ridge", "consent list", "consent list --waiting",
		"consent show dome-scheduler@ridge", "permission list", "secret list", "registrar list", "expect run",
		"expect list",
		"handoff skyview@ridge --for app --dry-run", "rehearse nightlog@ridge --as mira --dry-run", "route list",
		"metadata read nightlog-metadata.xml", "metadata history southmere", "inspect nightlog-metadata.xml",
		"cutover nightlog@ridge --dry-run", "version"} {
		r := d.run(append(strings.Fields(args), "--format", "json")...)
		var data any
		if err := json.Unmarshal([]byte(r.out), &data); err != nil {
			t.Errorf("%s: %v: %.80s%s", args, err, r.out, r.err)
			continue
		}
		var look func(at string, x any)
		look = func(at string, x any) {
			switch x := x.(type) {
			case nil:
				t.Errorf("%s: %s is null", args, at)
			case string:
				if strings.HasPrefix(x, "0001-01-01T") {
					t.Errorf("%s: %s is no time", args, at)
				}
			case map[string]any:
				for k, v := range x {
					if k != "before" && k != "after" { // of the journal: a record that is new was nothing before
						look(at+"."+k, v)
					}
				}
			case []any:
				for _, v := range x {
					look(at+"[]", v)
				}
			}
		}
		look("", data)
	}
}
