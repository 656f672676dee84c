package main

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"golang.org/x/sys/unix"
)

// aTerminal opens a terminal of so many columns: the side on which programs run, and the other one.
func aTerminal(t *testing.T, columns int) (slave, master *os.File) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	if err != nil {
		t.Skip("no terminals here: ", err) // a container without /dev/ptmx
	}
	fd := int(master.Fd())
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0)
	}
	if err == nil {
		err = unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{Row: 50, Col: uint16(columns)})
	}
	if err != nil {
		t.Fatal(err)
	}
	slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	return slave, master
}

// onTerminal runs the program on a terminal of so many columns, and returns what it shows there, without colours.
func (d *desk) onTerminal(t *testing.T, columns int, args ...string) string {
	t.Helper()
	slave, master := aTerminal(t, columns)
	defer master.Close()
	c := d.command(args...)
	c.Env = append(c.Env, "TERM=xterm-256color")
	c.Stdout = slave
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	slave.Close()
	var out bytes.Buffer
	io.Copy(&out, master) // ends with an error, when nobody has the other end any more
	c.Wait()
	return strings.ReplaceAll(escapes.ReplaceAllString(out.String(), ""), "\r\n", "\n")
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;]*m")

// unbroken reports whether a line is as long as it is because something in it is not to be broken: a command, or a word
// that has no room on any line of its own.
func unbroken(line string, columns int) bool {
	rest := strings.TrimSpace(line)
	if strings.Contains(line, "`") || strings.HasPrefix(rest, "tressik ") || strings.HasPrefix(rest, "--") {
		return true
	}
	for _, w := range strings.Fields(rest) {
		if utf8.RuneCountInString(w) > columns-7 {
			return true
		}
	}
	return false
}

// TestTerminals: on a terminal of any width no line is wider, and nothing that has to be copied is broken; tables are
// tables where they have room.
func TestTerminals(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("accounts", "load", "nightlog", d.path("nightlog-accounts.csv"))
	d.ok("key", "announce", "ridge")
	pages := []string{"", "--help", "trust show --help", "app add --help", "federate --help", "trust list", "app list",
		"provider list", "trust show nightlog@ridge", "trust show dome-scheduler@ridge", "provider show ridge",
		"provider show southmere", "app show nightlog", "app show telescope-api", "check", "next",
		"next nightlog@ridge",
		"due --within 1200d", "key list ridge", "key plan ridge", "journal list", "people list",
		"people show mira",
		"people access mira", "claims list nightlog@ridge", "claims preview nightlog@ridge --as mira",
		"claims gaps nightlog@ridge",
		"claims suggest plate-archive@ridge", "accounts match nightlog@ridge", "consent list",
		"consent show dome-scheduler@ridge",
		"permission list", "secret list", "registrar list", "expect run", "handoff skyview@ridge --for app --dry-run",
		"rehearse nightlog@ridge --as mira --dry-run", "rehearse dome-scheduler@ridge --as mira --dry-run",
		"route list",
		"metadata read nightlog-metadata.xml", "inspect nightlog-metadata.xml", "cutover nightlog@ridge --dry-run",
		"version"}
	for _, columns := range []int{60, 80, 120, 200} {
		for _, page := range pages {
			args := strings.Fields(page)
			out := d.onTerminal(t, columns, args...)
			if strings.TrimSpace(out) == "" && page != "registrar list" {
				t.Errorf("%s at %d columns: nothing is shown", page, columns)
			}
			for _, l := range strings.Split(out, "\n") {
				if n := utf8.RuneCountInString(l); n > columns && !unbroken(l, columns) {
					t.Errorf("%s at %d columns: %d columns: %s", page, columns, n, l)
					break
				}
			}
			if strings.Count(out, "`")%2 == 1 {
				t.Errorf("%s at %d columns: a command has no end", page, columns)
			}
			for _, l := range strings.Split(out, "\n") { // a command stands on one line
				if strings.Count(l, "`")%2 == 1 {
					t.Errorf("%s at %d columns: a command is broken: %s", page, columns, l)
					break
				}
			}
		}
	}
	if s := d.onTerminal(t, 120, "app", "list"); !strings.Contains(s, "---") {
		t.Errorf("app list is no table at 120 columns:\n%s", s)
	}
	// A pipe gets 100, or what is said.
	for _, l := range strings.Split(d.ok("trust", "show", "nightlog@ridge"), "\n") {
		if n := utf8.RuneCountInString(l); n > 100 && !unbroken(l, 100) {
			t.Errorf("a pipe gets %d columns: %s", n, l)
		}
	}
	if wide, narrow := d.ok("people", "list", "--width", "200"), d.ok("people", "list", "--width",
		"60"); wide == narrow {
		t.Error("--width changes nothing")
	}
	d.fails(2, []string{"--width 10", "60 to 400"}, "trust", "list", "--width", "10")
	d.fails(2, []string{"--color", "auto, always or never"}, "trust", "list", "--color", "maybe")
	if s := d.ok("trust", "show", "nightlog@ridge", "--color", "always"); !strings.Contains(s, "\x1b[") {
		t.Error("--color always: no colour")
	}
	if s := d.onTerminal(t, 100, "trust", "list", "--color", "never"); strings.Contains(s, "\x1b[") {
		t.Error("--color never: colour")
	}
}
