package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/face/format"
)

// usage is a command as the reference describes it.
type usage struct {
	path  []string
	args  []string            // placeholders of its arguments, with [] and … as they stand
	flags map[string]string   // each with what it is for
	takes map[string]bool     // whether it takes a value
	need  map[string][]string // the flags that the usage line has, with a placeholder
}

// usages are all commands of the reference.
func usages(t *testing.T) (out []usage) {
	t.Helper()
	pages, err := filepath.Glob("../../docs/reference/*.md")
	if err != nil {
		t.Fatal(err)
	}
	line := regexp.MustCompile(`^    tressik (.*)$`)
	flag := regexp.MustCompile("^\\| `--([a-z0-9-]+)( …)?[^`]*` \\| (.*) \\|$")
	heading := regexp.MustCompile(`^#+ tressik (.*)$`)
	for _, p := range pages {
		if filepath.Base(p) == "README.md" || filepath.Base(p) == "completion.md" {
			continue
		}
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		var path []string
		for _, l := range strings.Split(string(b), "\n") {
			if m := heading.FindStringSubmatch(l); m != nil {
				path = strings.Fields(m[1])
			}
			if m := line.FindStringSubmatch(l); m != nil {
				u := usage{path: path, flags: map[string]string{}, takes: map[string]bool{}}
				words := strings.Fields(m[1])[len(path):]
				for i := 0; i < len(words); i++ {
					switch w := words[i]; {
					case w == "[flags]":
					case strings.HasPrefix(w, "(") || strings.HasPrefix(w, "--"):
						if strings.HasPrefix(w, "(") {
							for ; !strings.HasSuffix(words[i], ")"); i++ {
							}
						} else {
							i++
						}
					default:
						u.args = append(u.args, w)
					}
				}
				out = append(out, u)
			}
			if m := flag.FindStringSubmatch(l); m != nil && len(out) > 0 && slices.Equal(out[len(out)-1].path, path) {
				out[len(out)-1].flags[m[1]], out[len(out)-1].takes[m[1]] = m[3], m[2] != ""
			}
		}
	}
	if len(out) < 120 {
		t.Fatalf("%d commands were read", len(out))
	}
	return out
}

// fill is a command with each of its arguments.
func (u *usage) fill(with string) []string {
	out := slices.Clone(u.path)
	for range u.args {
		out = append(out, with)
	}
	return out
}

// raw are words of libraries and of the system that say nothing to whoever typed a command.
var raw = regexp.MustCompile(strings.Join([]string{`pflag|cobra|strconv|unmarshal|sqlite|SQL logic|no such file`,
	`is a directory$|goroutine|panic|invalid character|x509:|asn1:|tls: |dial tcp|: lookup |proto:|%!|\bEOF\b`,
	`unexpected end|yaml:|json:|xml:|pem:|<nil>|arg\(s\)|needs an argument|/tmp/[a-z]*\d|syntax error`,
	`0x[0-9a-f]{6}|context (canceled|deadline)`}, "|"))

// wayOut is what a way out looks like: a command, what to write, what is near, where to look.
var wayOut = regexp.MustCompile(strings.Join([]string{"`tressik|write|did you mean|see |choose|name |give|say |--force",
	"make |look|read |remove|leave|bring|use |add |ask |put |(is|are) missing|at most|use`|change|no |not |without",
	"goes with|none|exclude|go together|It takes|starts with|Name "}, "|"))

// What a flag's words say that it takes: a span of time, a number.
var (
	spans  = regexp.MustCompile(`^for how long|^how (long|far ahead)|such as (90d|7d|20s|10m|60d)|: 60d$`)
	counts = regexp.MustCompile(`^(how many|only the newest so many)`)
)

// together says that a flag does not go with another one, which is said first.
var together = regexp.MustCompile(`go(es)? (with|without|together)|exclude each other|choose one`)

// without is a command line without a flag and its value.
func without(args []string, flag string) []string {
	out := slices.Clone(args)
	if i := slices.Index(out, "--"+flag); i >= 0 {
		out = slices.Delete(out, i, min(i+2, len(out)))
	}
	return out
}

// TestOldFlags: a flag is taken by the name that it had before, and an error names it so, with the one that it has.
func TestOldFlags(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.fails(2, []string{`--at (now --as-of) "nonsense" is no time`}, "inspect", "captured.txt", "--at", "nonsense")
	d.fails(2, []string{`--as-of "nonsense" is no time`}, "inspect", "captured.txt", "--as-of", "nonsense")
	d.fails(2, []string{"--home (now --home-page)"}, "app", "change", "dome-scheduler", "--home", "here")
}

// TestWrongInput types what is wrong at every command, in many ways: each is refused with the status for it, names what
// was typed, says what to do, and has no words of a library; nothing crashes, nothing steers the terminal.
func TestWrongInput(t *testing.T) {
	t.Parallel()
	made := demoed(t)
	made.write("junk", "junk\x00junk")
	made.write("empty", "")
	first := map[string][]string{}
	for _, x := range examples(t) {
		if len(x.lines) == 0 {
			continue
		}
		line := x.lines[len(x.lines)-1]
		if strings.Contains(line, "--schedule") {
			line = x.lines[0]
		}
		line = strings.ReplaceAll(line, " --format json", "")
		if words, err := format.Split(line); err == nil && words[0] == "tressik" {
			first[strings.TrimPrefix(x.of, "tressik ")] = words[1:]
		}
	}
	tried, flags := 0, flagsOf(t)
	for _, u := range usages(t) {
		open := slices.ContainsFunc(u.args, func(a string) bool { return strings.Contains(a, "…") })
		servers := slices.Contains([]string{"stage", "serve", "demo"}, u.path[0])
		type try struct {
			name string
			args []string
			code []int
			says string
		}
		tries := []try{
			{"an unknown flag", append(u.fill("nosuch"), "--nosuch", "x"), []int{2}, "--nosuch"},
			{"an unknown form", append(u.fill("nosuch"), "--format", "xml"), []int{2}, "xml"},
			{"an unknown colour", append(u.fill("nosuch"), "--color", "pink"), []int{2}, "pink"},
			{"a width that is none", append(u.fill("nosuch"), "--width", "wide"), []int{2}, "wide"},
		}
		if !open {
			tries = append(tries, try{"too many arguments", append(u.fill("nosuch"), "surplus", "surplus"), []int{2},
				"surplus"})
		}
		if n := len(u.args); n > 0 {
			if !strings.HasPrefix(u.args[0], "[") {
				tries = append(tries, try{"no arguments", u.path, []int{2}, "missing"})
			}
			if !servers && u.path[0] != "publish" && u.path[0] != "init" && u.path[len(u.path)-1] != "backup" {
				tries = append(tries, try{"what is not there", u.fill("nosuch-thing"), []int{1, 2, 3}, ""},
					try{"nothing", u.fill(""), []int{1, 2, 3}, ""},
					try{"what steers a terminal", u.fill("a\x1b[31mb\u202e"), []int{1, 2, 3}, ""},
					try{"what is too long", u.fill(strings.Repeat("x", 5000)), []int{1, 2, 3}, ""},
					try{"junk", u.fill("junk"), []int{1, 2, 3}, ""}, try{"an empty file", u.fill("empty"), []int{1, 2,
						3}, ""})
			}
		}
		if !servers && !slices.Contains([]string{"docs", "version", "init", "inspect"}, u.path[0]) && len(u.args) == 0 {
			tries = append(tries, try{"no ledger", append(slices.Clone(u.path), "--ledger", "nowhere.ledger"),
				[]int{0, 1, 2}, ""})
		}
		for name, what := range u.flags {
			if !u.takes[name] {
				tries = append(tries, try{"--" + name + "=maybe", append(u.fill("nosuch"), "--"+name+"=maybe"),
					[]int{2},
					"maybe"})
				continue
			}
			if name == "out" || name == "into" || name == "dir" || name == "draw" || servers || u.path[0] == "demo" {
				continue
			}
			if base := first[strings.Join(u.path, " ")]; base != nil &&
				u.path[len(u.path)-1] != "restore" { // of a file made first
				switch {
				case strings.HasPrefix(what, "file with") || strings.Contains(what, ": file with"):
					tries = append(tries, try{"--" + name + " of no file", append(without(base, name), "--"+name,
						"nosuch.file"),
						[]int{1, 2}, "nosuch.file"})
				case spans.MatchString(what):
					tries = append(tries, try{"--" + name + " of no span", append(without(base, name), "--"+name,
						"soon"),
						[]int{2}, "soon"})
				case counts.MatchString(what):
					tries = append(tries, try{"--" + name + " of no number", append(without(base, name), "--"+name,
						"many"),
						[]int{2}, "many"})
				}
			}
			tries = append(tries, try{"--" + name + " without a value", append(u.fill("nosuch"), "--"+name), []int{2},
				"--" + name})
		}
		for _, x := range tries {
			tried++
			d := made
			r := d.run(x.args...)
			what := fmt.Sprintf("%s: tressik %.120q", x.name, strings.Join(x.args, " "))
			said := strings.TrimSpace(r.err)
			switch {
			case !slices.Contains(x.code, r.code):
				t.Errorf("%s ended with %d, want %v\n%.400s", what, r.code, x.code, r.out+r.err)
			case r.code == 0 || r.code == 3:
			case !strings.Contains(said, "tressik: "):
				t.Errorf("%s says %.300q", what, said)
			case !strings.Contains(said, x.says) && !together.MatchString(said):
				t.Errorf("%s does not say %q: %.300s", what, x.says, said)
			case !wayOut.MatchString(said):
				t.Errorf("%s says no way out: %.300s", what, said)
			}
			for _, at := range namedFlag.FindAllStringIndex(said, -1) {
				name := said[at[0]:at[1]]
				if name != "--nosuch" && name != "--help" && foreignFlag(flags, strings.Join(u.path, " "), said, at) {
					t.Errorf("%s names %s, which it has not: %.300s", what, name, said)
				}
			}
			if m := raw.FindString(r.err + r.out); m != "" {
				t.Errorf("%s says %q, a word of a library: %.400s", what, m, said)
			}
			if strings.ContainsAny(r.out+r.err, "\x1b\u202e") {
				t.Errorf("%s steers the terminal", what)
			}
		}
	}
	if tried < 1200 {
		t.Errorf("only %d were tried", tried)
	}
}
