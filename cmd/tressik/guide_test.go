package main

import (
	"os"
	"strings"
	"testing"

	"tressik.example/internal/testkit/peer"
)

// TestGuide runs what docs/guide.md prints, line by line, in an empty folder and at the real clock.
func TestGuide(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.env = nil
	if n := d.printed("guide"); n < 35 {
		t.Errorf("only %d commands were found", n)
	}
}

// TestOperate runs what docs/operate.md prints, line by line, in the folder of a demo and at the real clock.
func TestOperate(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.env = nil
	d.ok("demo", "--dir", "work")
	d.dir = d.path("work")
	if n := d.printed("operate"); n < 40 {
		t.Errorf("only %d commands were found", n)
	}
}

// printed runs the lines of a document's blocks for a shell, and returns how many there are.
func (d *desk) printed(name string) (n int) {
	d.t.Helper()
	b, err := os.ReadFile("../../docs/" + name + ".md")
	if err != nil {
		d.t.Fatal(err)
	}
	for i, part := range strings.Split(string(b), "```") {
		text, is := strings.CutPrefix(part, "sh\n")
		if i%2 == 0 || !is {
			continue
		}
		for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
			if dir, is := strings.CutPrefix(line, "cd "); is {
				d.dir = d.path(dir)
				continue
			}
			n++
			d.example(line)
		}
	}
	return n
}

// TestDocuments: each document that comes with the program is shown as it stands in docs/.
func TestDocuments(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	var list []struct{ Name, About string }
	d.json(&list, "docs")
	if len(list) < 7 {
		t.Errorf("%+v", list)
	}
	for _, x := range list {
		b, err := os.ReadFile("../../docs/" + x.Name + ".md")
		if err != nil || d.ok("docs", x.Name) != string(b) || x.About == "" {
			t.Errorf("%+v: %v", x, err)
		}
	}
	d.fails(1, []string{"there is no document", "did you mean guide?"}, "docs", "guid")
	d.fails(2, []string{"form of its own"}, "docs", "guide", "--format", "json")
	d.fails(2, []string{"choose one of"}, "docs", "guide", "--man", "x")
}

// TestLedgerPage runs what docs/ledger.md prints, in the folder of a demo, with a database server of its own in place
// of the one that it names.
func TestLedgerPage(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.env = nil
	d.ok("demo", "--dir", "work")
	d.dir = d.path("work")
	s := peer.Postgres(t, "")
	d.database = s.Address(s.New(t), "")
	if n := d.printed("ledger"); n < 18 {
		t.Errorf("only %d commands were found", n)
	}
}
