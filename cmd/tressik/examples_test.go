package main

import (
	"bytes"
	"encoding/csv"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"tressik.example/internal/testkit/peer"
)

// example is the examples of one command, as the reference prints them.
type example struct {
	of    string
	lines []string // what is run, each with its continuation
	fresh bool     // in a new folder with the demo's files, where no party is known yet
}

// examples are all that the reference has.
func examples(t *testing.T) (out []example) {
	t.Helper()
	pages, err := filepath.Glob("../../docs/reference/*.md")
	if err != nil || len(pages) < 30 {
		t.Fatalf("%d pages, %v", len(pages), err)
	}
	heading := regexp.MustCompile(`(?m)^#+ (tressik .*)$`)
	for _, p := range pages {
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		parts := strings.Split(string(b), "```")
		of := ""
		for i, part := range parts {
			if i%2 == 0 {
				if all := heading.FindAllStringSubmatch(part, -1); all != nil {
					of = all[len(all)-1][1]
				}
				continue
			}
			x := example{of: of}
			text := strings.ReplaceAll(strings.TrimPrefix(part, "sh\n"), "\\\n", " ")
			for _, l := range strings.Split(strings.TrimSpace(text), "\n") {
				switch {
				case strings.HasPrefix(l, "#"):
					x.fresh = x.fresh || strings.Contains(l, "demo --files")
				case l != "":
					x.lines = append(x.lines, l)
				}
			}
			out = append(out, x)
		}
	}
	return out
}

// TestExamples runs each example of each help text as it stands there, at the real clock: in the folder of the demo, or
// in a new one with the demo's files. Only IDs that are made up are looked up. What opens a server is interrupted once
// it says that it is there. It ends with 0, or with 3 where something is found.
func TestExamples(t *testing.T) {
	t.Parallel()
	all := examples(t)
	known := map[string]bool{}
	for _, x := range all {
		known[x.of] = true
	}
	if len(all) < 120 || len(known) < 120 {
		t.Fatalf("%d examples of %d commands were read", len(all), len(known))
	}
	made := exampleFolders(t)
	gate := make(chan bool, 2) // two at a time
	for _, x := range all {
		t.Run(x.of, func(t *testing.T) {
			t.Parallel()
			gate <- true
			defer func() { <-gate }()
			d := x.copied(t, made)
			for _, line := range x.lines {
				d.example(line)
			}
		})
	}
}

// copied is a copy of the folder in which an example is run.
func (x *example) copied(t *testing.T, made folders) *desk {
	t.Helper()
	d := newDesk(t)
	d.env = nil
	from := made.demo
	if x.fresh {
		from = made.walk
	}
	if out, err := exec.Command("cp", "-a", from+"/.", d.dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if x.of == "tressik init" {
		os.Remove(d.path("tressik.ledger"))
		os.Remove(d.path("tressik.ledger-key"))
	}
	if slices.ContainsFunc(x.lines, addresses.MatchString) {
		d.database = made.server.Address(made.server.New(t), "")
		if x.of != "tressik ledger copy" { // which makes the ledger
			d.ok("ledger", "copy", "tressik.ledger", d.database)
		}
	}
	return d
}

// TestEveryFormat runs each example in each form for programs: what is JSON is held to the schema of its command by a
// validator that is not ours, each schema by at least one, and YAML says the same; CSV is one table; Markdown has no
// ragged one. A command that writes a document of its own refuses a form.
func TestEveryFormat(t *testing.T) {
	t.Parallel()
	all := examples(t)
	made := exampleFolders(t)
	schemas, err := contracts()
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	seen := map[string]bool{"error": true, "stage": true, "serve": true, // these go on, and are held by their own tests
		"trust-registration": true}
	gate := make(chan bool, 2)
	t.Run("all", func(t *testing.T) {
		for _, x := range all {
			t.Run(x.of, func(t *testing.T) {
				t.Parallel()
				gate <- true
				defer func() { <-gate }()
				for _, form := range []string{"json", "yaml", "csv", "markdown"} {
					d := x.copied(t, made)
					for _, line := range x.lines {
						if key := d.form(line, form); key != "" {
							mu.Lock()
							seen[key] = true
							mu.Unlock()
						}
					}
				}
			})
		}
	})
	for key := range schemas {
		if !seen[key] {
			t.Errorf("no example of %s gave a result", key)
		}
	}
}

// form runs a line in a form, and holds what it writes; it returns the name of the schema that JSON was held to.
func (d *desk) form(line, form string) (key string) {
	d.t.Helper()
	line = d.looked(line)
	words := strings.Fields(line)
	if words[0] != "tressik" || slices.Contains([]string{"stage", "serve"}, words[1]) {
		d.example(line)
		return ""
	}
	if strings.Contains(line, " --stage ") {
		defer d.opened("tressik stage --port 0")()
	}
	c := d.shell(strings.ReplaceAll(line, " --format json", "") + " --format " + form)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	r := result{c.ProcessState.ExitCode(), out.String(), errs.String()}
	switch {
	case r.code == 2 && strings.Contains(r.err, "form of its own"), r.code == 2 && strings.Contains(r.err,
		"is written to"):
		d.example(line)
		return ""
	case r.code != 0 && r.code != 3:
		d.t.Errorf("$ %s --format %s\n%v\n%s", line, form, err, r.err)
		return ""
	}
	switch form {
	case "json":
		for n := min(4, len(words)); n > 1 && key == ""; n-- {
			if name := strings.Join(words[1:n], "-"); exists("../../docs/schema/" + name + ".schema.json") {
				key = name
			}
		}
		d.contract(append(strings.Split(key, "-"), "--format", "json"), r)
		if r.out == "" {
			d.t.Errorf("$ %s --format json\ngives nothing\n%s", line, r.err)
		}
	case "yaml":
		var x any
		if err := yaml.Unmarshal(out.Bytes(), &x); err != nil || x == nil {
			d.t.Errorf("$ %s --format yaml\n%v\n%.500s", line, err, r.out)
		}
	case "csv":
		rows, err := csv.NewReader(&out).ReadAll() // which holds that all have as many cells
		if err != nil || len(rows) == 0 {
			d.t.Errorf("$ %s --format csv\n%v\n%.500s", line, err, r.out)
		}
	case "markdown":
		columns := 0
		for _, l := range strings.Split(r.out, "\n") {
			n := strings.Count(strings.ReplaceAll(l, `\|`, ""), "|")
			if !strings.HasPrefix(l, "|") {
				n = 0
			}
			if columns > 0 && n > 0 && n != columns {
				d.t.Errorf("$ %s --format markdown\na ragged table: %s", line, l)
			}
			columns = n
		}
	}
	return key
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// looked is a line with the IDs that are made up looked up.
func (d *desk) looked(line string) string {
	d.t.Helper()
	if !strings.Contains(line, d.database) { // not yet
		line = addresses.ReplaceAllString(line, "'"+d.database+"'")
	}
	if strings.Contains(line, "k-1f2e3d4c5b") {
		line = strings.ReplaceAll(line, "k-1f2e3d4c5b", d.ring("ridge", "signing")["active"])
	}
	if strings.Contains(line, "s-5f0c19a2b7") {
		var list []struct{ ID string }
		d.json(&list, "secret", "list", "dome-scheduler@ridge")
		line = strings.ReplaceAll(line, "s-5f0c19a2b7", list[0].ID)
	}
	return line
}

// exampleFolders makes the two folders in which examples are run: that of the demo, and one with its files alone, a
// ledger and people.
func exampleFolders(t *testing.T) folders {
	t.Helper()
	d := newDesk(t)
	d.env = nil
	d.ok("demo", "--dir", "demo")
	d.ok("demo", "--files", "--dir", "walk")
	w := *d
	w.dir = d.path("walk")
	w.ok("init", "--org", "Kestrel Ridge Observatory")
	w.ok("people", "load", "observatory.ldif")
	return folders{d.path("demo"), w.dir, peer.Postgres(t, "")}
}

// folders are those in which examples are run, and the database server that stands for those that they name.
type folders struct {
	demo, walk string
	server     *peer.Server
}

var addresses = regexp.MustCompile(`postgres://\S+`)

// example runs a line as a shell would.
func (d *desk) example(line string) {
	d.t.Helper()
	line = d.looked(line)
	if strings.Contains(line, " --stage ") {
		defer d.opened("tressik stage --port 0")()
	}
	if strings.HasPrefix(line, "tressik stage") || strings.HasPrefix(line, "tressik serve") {
		d.opened(regexp.MustCompile(`--port \d+`).ReplaceAllString(line, "--port 0"))()
		return
	}
	c := d.shell(line)
	out, err := c.CombinedOutput()
	if err != nil && c.ProcessState.ExitCode() != 3 || strings.Contains(string(out), "tressik: ") {
		d.t.Errorf("$ %s\n%v\n%s", line, err, out)
	}
}

// shell is a line for the shell, in the folder.
func (d *desk) shell(line string) *exec.Cmd {
	c := exec.Command("sh", "-c", line)
	c.Dir = d.dir
	c.Env = append(slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "TRESSIK_") }),
		"HOME="+d.dir, "PATH="+filepath.Dir(built)+":"+os.Getenv("PATH"), "NO_COLOR=1")
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return c
}

// heard is what a process says, read while it runs.
type heard struct {
	mu  sync.Mutex
	all []byte
}

func (h *heard) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = append(h.all, b...)
	return len(b), nil
}

func (h *heard) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return string(h.all)
}

// opened runs a line that opens a server, waits until it says where it is, and returns what interrupts it.
func (d *desk) opened(line string) (end func()) {
	d.t.Helper()
	c := d.shell("exec " + line)
	said := &heard{}
	c.Stdout, c.Stderr = said, said
	if err := c.Start(); err != nil {
		d.t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- c.Wait() }()
	for until := time.Now().Add(30 * time.Second); !strings.Contains(said.String(), "127.0.0.1:"); {
		select {
		case err := <-done:
			d.t.Fatalf("$ %s\n%v\n%s", line, err, said)
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(until) {
			c.Process.Kill()
			d.t.Fatalf("$ %s\nsays nothing:\n%s", line, said)
		}
	}
	return func() {
		c.Process.Signal(os.Interrupt)
		if err := <-done; err != nil {
			d.t.Errorf("$ %s\n%v\n%s", line, err, said)
		}
	}
}
