package charter

import (
	"bytes"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"
)

// FuzzRead reads anything, and what can be read it writes so that it reads as the same again.
func FuzzRead(f *testing.F) {
	demo, err := os.ReadFile("../../face/command/demodata/observatory.yaml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(demo)
	f.Add([]byte("charter: " + Kind + "\ntrusts:\n  a@b:\n    admits: everyone\n    claims: {mail: person.mail}\n"))
	f.Add([]byte(`{"charter": "` + Kind + `", "values": {"X": "1"}, "apps": {"a": {"home": "${X}", "client": {}}}}`))
	f.Add([]byte("charter: &a " + Kind + "\norganisation: *a\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		slow := time.AfterFunc(10*time.Second, func() { panic("reading has no end: " + strconv.Quote(string(text))) })
		defer slow.Stop()
		x, err := Read(text, nil)
		if err != nil {
			return
		}
		out, err := x.Marshal()
		if err != nil {
			t.Fatal(err)
		}
		again, err := Read(out, nil)
		if err != nil {
			if strings.Contains(string(text), "$") { // a text with $$ reads as one with $
				return
			}
			t.Fatalf("%v in\n%s", err, out)
		}
		if twice, err := again.Marshal(); err != nil || !bytes.Equal(out, twice) {
			t.Errorf("%v\n%s\nreads as\n%s", err, out, twice)
		}
	})
}

// TestBomb reads in no time what would be large if its aliases were followed.
func TestBomb(t *testing.T) {
	b := "charter: " + Kind + "\nvalues:\n  a: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 9 {
		p := string(rune('a' + i))
		b += "  " + p + "1: &" + string(rune('a'+i+1)) + "0 [" + strings.Repeat("*"+p+"0, ", 9) + "*" + p + "0]\n"
	}
	began := time.Now()
	_, err := Read([]byte(b), nil)
	if took := time.Since(began); err == nil || took > 5*time.Second {
		t.Errorf("%v after %v", err, took)
	}
}
