package main

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// TestInterrupts interrupts each command of the examples somewhere on its way. It ends, says so in a word and with the
// status that shells know, and leaves nothing behind: no file that was not there, nothing in the folder for what is
// temporary, a ledger whose journal holds. A command that was done before it heard of it is done.
func TestInterrupts(t *testing.T) {
	t.Parallel()
	made := exampleFolders(t)
	gate := make(chan bool, 2)
	told := make(chan int, 400)
	all, port := examples(t), regexp.MustCompile(`--port \d+`)
	t.Run("all", func(t *testing.T) {
		for k, x := range all {
			t.Run(x.of, func(t *testing.T) {
				t.Parallel()
				gate <- true
				defer func() { <-gate }()
				d := x.copied(t, made)
				for n, line := range x.lines {
					if !strings.HasPrefix(line, "tressik ") || strings.ContainsAny(line, "|") ||
						strings.Contains(line, " --stage ") {
						d.example(line)
						continue
					}
					// 12 to 100 ms: while it starts, while it reads, while it writes
					line = port.ReplaceAllString(d.looked(line), "--port 0")
					code := d.interrupted(line, time.Duration(12+(k*37+n*53)%89)*time.Millisecond)
					if told <- code; (code == 130 || code == -1) && n+1 < len(x.lines) {
						d.example(line) // what follows needs it, and nothing is in its way
					}
				}
			})
		}
	})
	close(told)
	count := map[int]int{}
	for code := range told {
		count[code]++
	}
	t.Logf("by exit status: %v", count)
	if count[130] < 10 || count[0] < 10 {
		t.Errorf("hardly any was interrupted, or all were: %v", count)
	}
}

// files are the names of all files below the folder.
func (d *desk) files() (out []string) {
	d.t.Helper()
	err := filepath.WalkDir(d.dir, func(path string, _ fs.DirEntry, err error) error {
		if err == nil {
			out = append(out, strings.TrimPrefix(path, d.dir))
		}
		return err
	})
	if err != nil {
		d.t.Fatal(err)
	}
	return out
}

// interrupted runs a line, interrupts it after a while, and returns its exit status; -1 where the signal ended it.
func (d *desk) interrupted(line string, after time.Duration) int {
	d.t.Helper()
	tmp := d.t.TempDir()
	before := d.files()
	c := d.shell("exec " + line)
	c.Env = append(c.Env, "TMPDIR="+tmp)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Start(); err != nil {
		d.t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- c.Wait() }()
	var err error
	select {
	case err = <-done:
	case <-time.After(after):
		c.Process.Signal(os.Interrupt)
		select {
		case err = <-done:
		case <-time.After(time.Minute):
			c.Process.Signal(syscall.SIGQUIT)
			d.t.Errorf("$ %s\ngoes on after it was interrupted: %v\n%s", line, <-done, errs.String())
		}
	}
	code := c.ProcessState.ExitCode()
	switch code {
	case 0, 3:
		return code
	case 130:
		if !strings.Contains(errs.String(), "interrupted before it was done") {
			d.t.Errorf("$ %s\nsays of its interrupt %q", line, errs.String())
		}
	case -1: // before it had begun
		if out.Len()+errs.Len() > 0 {
			d.t.Errorf("$ %s\nwas ended by the signal after it said %q", line, out.String()+errs.String())
		}
	default:
		d.t.Errorf("$ %s\n%v\n%s", line, err, errs.String())
	}
	if now := d.files(); !slices.Equal(now, before) {
		d.t.Errorf("$ %s\nended with %d and left\n%v\nwhere before was\n%v", line, code, now, before)
	}
	if left, err := os.ReadDir(tmp); err != nil || len(left) > 0 {
		d.t.Errorf("$ %s\nleft %v in the temporary folder, %v", line, left, err)
	}
	if slices.Contains(before, "/tressik.ledger") {
		d.ok("journal", "verify")
	}
	return code
}

// TestInterruptedQuestions interrupts a command that waits for an answer: at a question, at a password, at standard
// input. The terminal shows again what is typed.
func TestInterruptedQuestions(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for _, c := range []struct{ waits, line string }{
		{"[y/N] ", "tressik trust remove skyview@ridge"},
		{"Password: ", "tressik key announce ridge --pkcs12 coming.p12"},
		{"", "tressik inspect -"},
	} {
		slave, master := aTerminal(t, 100)
		defer master.Close()
		shows := func() bool {
			s, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
			if err != nil {
				t.Fatal(err)
			}
			return s.Lflag&unix.ECHO != 0
		}
		said := &heard{}
		p := d.command(strings.Fields(c.line)[1:]...)
		p.Stdin, p.Stdout, p.Stderr = slave, io.Discard, said
		if err := p.Start(); err != nil {
			t.Fatal(err)
		}
		done := make(chan error, 1)
		go func() { done <- p.Wait() }()
		for until := time.Now().Add(30 * time.Second); !strings.HasSuffix(said.String(), c.waits) ||
			c.waits == "Password: " && shows(); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(until) {
				t.Fatalf("%s does not ask: %q", c.line, said)
			}
		}
		p.Process.Signal(os.Interrupt)
		select {
		case <-done:
		case <-time.After(30 * time.Second):
			p.Process.Kill()
			t.Fatalf("%s waits on", c.line)
		}
		// -1: nothing had begun, and it waited for nothing yet
		if code := p.ProcessState.ExitCode(); code != 130 && (code != -1 || c.waits != "") {
			t.Errorf("%s ended with %d: %q", c.line, code, said)
		}
		if !shows() {
			t.Errorf("%s: what is typed is not shown any more", c.line)
		}
		slave.Close()
	}
	d.ok("trust", "show", "skyview@ridge")
}
