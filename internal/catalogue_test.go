package internal

import (
	"bytes"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// update writes docs/findings.md anew in place of holding it to the catalogue.
var update = flag.Bool("update", false, "write docs/findings.md anew")

// house types the packages of the house from their source. What lies outside is taken for empty: only the types of the
// house are asked for, and errors about the others are passed over.
type house struct {
	fset *token.FileSet
	done map[string]*types.Package
	info *types.Info
}

func (h *house) Import(path string) (*types.Package, error) {
	if p := h.done[path]; p != nil {
		return p, nil
	}
	dir, ours := strings.CutPrefix(path, module)
	var files []*ast.File
	if ours {
		list, err := filepath.Glob(filepath.Join(dir, "*.go"))
		if err != nil {
			return nil, err
		}
		for _, name := range list {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(h.fset, name, nil, 0)
			if err != nil {
				return nil, err
			}
			files = append(files, f)
		}
	}
	if len(files) == 0 {
		p := types.NewPackage(path, path[strings.LastIndex(path, "/")+1:])
		p.MarkComplete()
		h.done[path] = p
		return p, nil
	}
	c := types.Config{Importer: h, Error: func(error) {}}
	p, _ := c.Check(path, h.fset, files, h.info) // what lies outside is empty, so there are errors
	h.done[path] = p
	return p, nil
}

// TestCatalogue holds that each finding that the house tells has an ID of the catalogue: none is written out where it
// is told, and each of the catalogue is told somewhere and means something.
func TestCatalogue(t *testing.T) {
	h := &house{token.NewFileSet(), map[string]*types.Package{}, &types.Info{
		Types: map[ast.Expr]types.TypeAndValue{}, Uses: map[*ast.Ident]types.Object{}}}
	eachFile(t, func(path string, _ *ast.File) {
		if _, err := h.Import(module + path[:strings.LastIndex(path, "/")]); err != nil {
			t.Fatal(err)
		}
	})
	isID := func(x types.Type) bool {
		n, ok := x.(*types.Named)
		return ok && n.Obj().Pkg() != nil && n.Obj().Pkg().Path() == module+"core/finding" &&
			slices.Contains([]string{"ID", "FactID", "StepID"}, n.Obj().Name())
	}
	const home = "core/finding/"
	literals := 0
	for e, tv := range h.info.Types {
		if id, ok := e.(*ast.Ident); ok && tv.Value != nil && isID(tv.Type) {
			if o := h.info.Uses[id]; o != nil && o.Parent() != nil && o.Pkg() != nil &&
				o.Pkg().Path() != module+"core/finding" {
				t.Errorf("%s: %s is a name of its own for an ID; name the constant of internal/core/finding",
					h.fset.Position(id.Pos()), id.Name)
			}
		}
		lit, ok := e.(*ast.BasicLit)
		if !ok || !isID(tv.Type) {
			continue
		}
		at := h.fset.Position(lit.Pos())
		switch {
		case strings.HasPrefix(at.Filename, home):
			literals++
		case lit.Value != `""`:
			t.Errorf("%s: %s is written out; name the constant of internal/core/finding", at, lit.Value)
		}
	}
	used := map[string]bool{}
	for id, o := range h.info.Uses {
		if c, ok := o.(*types.Const); ok && isID(c.Type()) &&
			!strings.HasPrefix(h.fset.Position(id.Pos()).Filename, home) {
			used[strings.Trim(c.Val().ExactString(), `"`)] = true
		}
	}
	known := map[string]bool{}
	for _, f := range finding.Facts() {
		known[string(f.ID)] = true
	}
	for _, x := range finding.Steps() {
		known[string(x.ID)] = true
	}
	list := finding.Catalogue()
	if literals < 300 || len(list) < 300 {
		t.Fatalf("%d literals and %d entries: the catalogue was not read", literals, len(list))
	}
	named := func(id finding.ID) bool { // by a reason, an error code or a kind, and not by a constant
		s := string(id)
		return strings.Contains(s, ".signature.") || id.Of(finding.OAuthFamily) || id.Of(finding.PolicyFamily) ||
			id.Of(finding.DueFamily)
	}
	for i, e := range list {
		switch {
		case i > 0 && list[i-1].ID == e.ID:
			t.Errorf("%s is there twice", e.ID)
		case !strings.HasSuffix(e.Means, "."):
			t.Errorf("%s: %q is no sentence", e.ID, e.Means)
		case !used[string(e.ID)] && !named(e.ID):
			t.Errorf("%s is told nowhere", e.ID)
		}
		if got, ok := finding.Lookup(e.ID); !ok || got != e {
			t.Errorf("%s is not found", e.ID)
		}
	}
	for id := range used {
		if _, ok := finding.Lookup(finding.ID(id)); !ok && !known[id] && !family(list, id) {
			t.Errorf("%s is told, and stands in no catalogue", id)
		}
	}
	for _, family := range []finding.ID{finding.SAMLSignature, finding.RequestSignature, finding.LogoutSignature,
		finding.MetadataSignature} {
		for _, r := range xmlsec.Reasons() {
			_, ok := finding.Lookup(family.With(string(r)))
			if !ok && (r != xmlsec.BadReference || family == finding.MetadataSignature) { // that is saml.wrapping
				t.Errorf("%s is told, and stands in no catalogue", family.With(string(r)))
			}
		}
	}
}

// family reports whether IDs or steps are named by what stands before their dot.
func family(list []finding.Entry, name string) bool {
	return name == string(finding.StepHandoff) ||
		slices.ContainsFunc(list, func(e finding.Entry) bool { return e.ID.Of(finding.ID(name)) })
}

// TestFindingsPage holds docs/findings.md to the catalogue.
func TestFindingsPage(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("# What findings mean\n\nEach finding has an ID that stays from release to release, in " +
		"every command " +
		"and every format. The level is the\ngravest at which it is told; what is told as passed has none. The " +
		"sentence says what is so where the check passes,\nor what the finding is about.\n")
	family := ""
	for _, e := range finding.Catalogue() {
		f, _, _ := strings.Cut(string(e.ID), ".")
		if f != family {
			fmt.Fprintf(&b, "\n## %s\n\n| ID | Level | Means | Standard |\n|---|---|---|---|\n", f)
			family = f
		}
		level := string(e.Level)
		if e.Level == finding.Pass {
			level = ""
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", e.ID, level, e.Means, e.Ref)
	}
	b.WriteString("\n## Facts\n\nWhat a trust rests on, value by value.\n\n| Fact | Means | Standard " +
		"|\n|---|---|---|\n")
	for _, f := range finding.Facts() {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", f.ID, f.Means, f.Ref)
	}
	b.WriteString("\n## Steps\n\nWhat `next` lists, besides the findings that are to be mended.\n\n| Step | Means " +
		"|\n|---|---|\n")
	for _, x := range finding.Steps() {
		fmt.Fprintf(&b, "| `%s` | %s |\n", x.ID, x.Means)
	}
	const page = "../docs/findings.md"
	if *update {
		if err := os.WriteFile(page, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(page)
	if err != nil || !bytes.Equal(have, b.Bytes()) {
		t.Errorf("docs/findings.md is not what the catalogue says; write it anew with "+
			"`go test ./internal -run TestFindingsPage -update` (%v)", err)
	}
}
