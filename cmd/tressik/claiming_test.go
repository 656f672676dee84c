package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// claiming is what makes of a text a claim about a ledger: that something works, holds, is known or is there, or that
// nothing and nobody is.
var claiming = regexp.MustCompile(`can work|[Gg]ets? in\b|\b[Hh]olds\b|is known|^known:|has what it needs|takes it:|` +
	`\b[Nn]othing (is open|runs|is new|that|is missing|was kept of|within|since|proves|shows|was open)|` +
	`[Ee]very(one|body) (whom|in|gets|had|signs)|\b[Nn]obody (is|can|would|has|gets|agreed|comes|signs|consented)|` +
	`\b[Nn]obody:`)

// outputs are the packages whose texts people read as results.
var outputs = []string{"../../internal/face/layout", "../../internal/face/report", "../../internal/core/federation",
	"../../internal/work"}

// heldBy are the claims that a test of their own holds to a ledger on which they are false, by a piece of the text; an
// empty name is a text that claims nothing of a ledger.
var heldBy = map[string]string{
	"nobody: %q cannot be read":                   "TestAdmission",
	"by which nobody is known again":              "TestImportKeepsTransient",
	"until it is back nothing proves":             "TestLeft",
	"nothing proves its trusts meanwhile":         "TestLeft",
	"goes with a signer that is known":            "TestSignersOfARegistry",
	"the real parties answered, and nobody has":   "TestAnswer",
	"which cannot be read: nobody is admitted":    "TestWhoMaySignInHasOneAnswer",
	"has what it needs: a real sign-in showed it": "TestTwoOrganisations",
	"takes it: ": "TestChain",
	"an app that it does not know gets another answer": "TestProbeByPost",
	"that nobody is signed in":                         "TestProbeByPost",
	"and nothing shows any more":                       "TestAdmissionIsSeenOfPersons",
	"nobody consented since":                           "TestPermissions",
	"can be ended, and nobody comes back":              "TestSignOut",
	"Signed with keys of the stage":                    "TestHandoffExample",
	"it holds a control character":                     "TestGapsAreFound",
	"get in for the first time":                        "TestRulesAsAFile",
	"get in no longer":                                 "TestRulesAsAFile",
	"Nothing since the last report":                    "TestReport",
	"is the only live way into":                        "TestSentences",
	"whose server is known by":                         "TestClientKeysAtAURL",
	"in which nobody is":                               "TestWhoMaySignInHasOneAnswer",
	"Whether it can work is not known here":            "TestWhatElseDecides",
	"has what it needs since":                          "TestASheetHasTheKeysThatStandInIt",
	// Headings, remedies, errors and what is so by the standards or by what the ledger is claim nothing of it.
	"by whatever is known of it": "", "a machine acts as itself": "", "for everyone whom it admits": "",
	"the signature holds for the file": "",
	"How that is known":                "", "a verified address: nobody is bound": "", "that the app's owner holds": "",
	"who gets in and who does not": "", "whom to call at the app": "", "the file holds no certificate": "",
	"a charter never holds one": "", "a charter holds no secret": "",
	"it holds a private key": "", "which nobody has": "", "once everybody had it": "", "the address still holds": "",
	"until when it then holds": "", "receives access tokens alone": "", "read nothing that the signature": "",
	"a protocol that is known": "", "it is known what <> releases": "", "nothing that inspect knows": "",
	"nobody comes in as them": "", "nobody is named whose key signs": "", "it holds files that were not published": "",
}

// headings are claims by the rows below them, which the sentences look at.
var headings = []string{"Holds", "holds", "Gets in", "Where <> gets in"}

// pieces are the parts of a text that are the same whatever is filled in, and that claim by themselves.
func pieces(text string) []string {
	var out []string
	for _, p := range regexp.MustCompile(`<>|%[a-z]|\\.|[|*+()]`).Split(text, -1) {
		if p = strings.Trim(p, " .,;:"); claiming.MatchString(p) && strings.Contains(p, " ") {
			out = append(out, p)
		}
	}
	return out
}

// texts are the string literals of a file with their places, those that are put together as one, with <> for what is
// filled in. Tags of structs are none.
func texts(path string) (map[string]string, error) {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, nil, 0)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var whole func(ast.Expr) string
	whole = func(e ast.Expr) string {
		switch x := e.(type) {
		case *ast.BinaryExpr:
			return whole(x.X) + whole(x.Y)
		case *ast.BasicLit:
			if s, err := strconv.Unquote(x.Value); err == nil && x.Kind == token.STRING {
				return s
			}
		}
		return "<>"
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.Field:
			return x.Tag == nil
		case *ast.BinaryExpr:
			if x.Op == token.ADD {
				out[whole(x)] = set.Position(x.Pos()).String()
				return false
			}
		case *ast.BasicLit:
			out[whole(x)] = set.Position(x.Pos()).String()
		}
		return true
	})
	return out, nil
}

// TestEachClaimIsHeld: each text that claims something of a ledger stands in the table of sentences, or names the test
// that holds it to a ledger on which it is false.
func TestEachClaimIsHeld(t *testing.T) {
	rows := sentences()
	tests := allTests(t)
	used := map[string]bool{}
	for _, dir := range outputs {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			found, err := texts(path)
			for text, at := range found {
				if !claiming.MatchString(text) || strings.Contains(text, "%w") {
					continue
				}
				if slices.Contains(headings, text) || slices.ContainsFunc(rows, func(s sentence) bool {
					return slices.ContainsFunc(pieces(text), func(p string) bool {
						return strings.Contains(s.says, p) ||
							slices.ContainsFunc(pieces(s.says), func(q string) bool { return strings.Contains(p, q) })
					})
				}) {
					continue
				}
				i := slices.IndexFunc(keysOf(heldBy), func(k string) bool { return strings.Contains(text, k) })
				if i < 0 {
					t.Errorf("%s: no test holds %q to a ledger on which it is false", at, text)
					continue
				}
				used[keysOf(heldBy)[i]] = true
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for k, name := range heldBy {
		if !used[k] {
			t.Errorf("nothing says %q any more", k)
		}
		if name != "" && !strings.Contains(tests, "func "+name+"(") {
			t.Errorf("%q is said to be held by %s, which is not there", k, name)
		}
	}
}

func keysOf(m map[string]string) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// allTests is the text of all tests.
func allTests(t *testing.T) string {
	var all strings.Builder
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		all.Write(b)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all.String()
}
