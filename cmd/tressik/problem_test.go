package main

import (
	"encoding/json"
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
