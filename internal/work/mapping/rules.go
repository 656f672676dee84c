package mapping

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/plain"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
	"tressik.example/internal/work/handoff"
)

// Document is a trust's rules as they are written into a file and read from one.
type Document struct {
	Subject *SubjectDocument `yaml:"subject,omitempty"`
	Claims  []ClaimDocument  `yaml:"claims"`
}

// SubjectDocument is what an app knows people by.
type SubjectDocument struct {
	Format     string `yaml:"format,omitempty"` // persistent, transient, email, unspecified, or a whole identifier
	Expression string `yaml:"expression,omitempty"`
}

// ClaimDocument is one rule: an expression, or a table of roles.
type ClaimDocument struct {
	Claim      string         `yaml:"claim"`
	Expression string         `yaml:"expression,omitempty"`
	Name       string         `yaml:"name,omitempty"`
	NameFormat string         `yaml:"nameFormat,omitempty"`
	When       string         `yaml:"when,omitempty"`
	Single     bool           `yaml:"single,omitempty"`
	Roles      *RolesDocument `yaml:"roles,omitempty"`
}

// RolesDocument is a table of roles, in the order in which it counts.
type RolesDocument struct {
	Of      []RoleDocument `yaml:"of"`
	Default string         `yaml:"default,omitempty"`
	Several string         `yaml:"several,omitempty"`
}

// RoleDocument is one row of a table.
type RoleDocument struct {
	Group string `yaml:"group"`
	Role  string `yaml:"role"`
}

// ErrDocument means that a file holds no rules that can be used; a *DocumentError says where.
var ErrDocument = errors.New("no rules that can be used")

// DocumentError says where a file of rules is wrong. Line and Column count from 1; 0 is for rules that came in no file.
type DocumentError struct {
	Line, Column int
	Detail       string
}

func (e *DocumentError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%v: %s", ErrDocument, e.Detail)
	}
	return fmt.Sprintf("%v: line %d, column %d: %s", ErrDocument, e.Line, e.Column, e.Detail)
}

func (e *DocumentError) Unwrap() error { return ErrDocument }

// Export writes the rules of a trust as YAML. Errors: *model.UnknownError.
func (m *Mapper) Export(trust string) ([]byte, error) {
	t, _, _, err := m.Trust(trust)
	if err != nil {
		return nil, err
	}
	d := DocumentOf(t)
	d.Mask()
	return plain.YAML(d)
}

// Mask leaves out the salts that stand in the expressions: a file goes to others.
func (d *Document) Mask() {
	if d.Subject != nil {
		d.Subject.Expression = claims.Masked(d.Subject.Expression)
	}
	for i := range d.Claims {
		d.Claims[i].Expression = claims.Masked(d.Claims[i].Expression)
	}
}

// Unmask puts in the salts of a trust where the document has left them out. Errors: claims.ErrKept, with the claim.
func (d *Document) Unmask(t *federation.Trust) (err error) {
	if d.Subject != nil {
		if d.Subject.Expression, err = claims.Unmasked(d.Subject.Expression, t.Subject); err != nil {
			return fmt.Errorf("the subject: %w", err)
		}
	}
	for i, c := range d.Claims {
		_, there, _ := t.RuleFor(c.Claim)
		if d.Claims[i].Expression, err = claims.Unmasked(c.Expression, there); err != nil {
			return fmt.Errorf("%s: %w", c.Claim, err)
		}
	}
	return nil
}

// DocumentOf is the rules of a trust as they are written into a file.
func DocumentOf(t *federation.Trust) Document {
	d := Document{Subject: &SubjectDocument{Format: t.SubjectFormat, Expression: t.Subject}, Claims: []ClaimDocument{}}
	for _, r := range t.Rules {
		c := ClaimDocument{Claim: r.Claim, Expression: r.Expression, Name: r.Name, NameFormat: r.NameFormat,
			When: r.When, Single: r.Single}
		if r.Roles != nil {
			c.Expression, c.Roles = "", &RolesDocument{Default: r.Roles.Default, Several: r.Roles.Several}
			for _, x := range r.Roles.Of {
				c.Roles.Of = append(c.Roles.Of, RoleDocument(x))
			}
		}
		d.Claims = append(d.Claims, c)
	}
	return d
}

// Import replaces the rules of a trust by those of a file, whole or not at all. It returns the trust as it was and as
// it is; dry keeps nothing. Errors: a *DocumentError, *model.UnknownError.
func (m *Mapper) Import(trust string, text []byte, dry bool) (was, now *federation.Trust, err error) {
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, nil, documentError(err)
	}
	var d Document
	if err := yaml.UnmarshalWithOptions(text, &d, yaml.Strict()); err != nil {
		return nil, nil, documentError(err)
	}
	return m.replace(trust, &d, file, dry)
}

// Replace replaces the rules of a trust, and its subject where the document says one. It returns the trust as it was
// and as it is. Errors: a *DocumentError, *model.UnknownError.
func (m *Mapper) Replace(trust string, d *Document) (was, now *federation.Trust, err error) {
	return m.replace(trust, d, nil, false)
}

func (m *Mapper) replace(trust string, d *Document, file *ast.File, dry bool) (was, now *federation.Trust, err error) {
	was, app, provider, err := m.Trust(trust)
	if err != nil {
		return nil, nil, err
	}
	if was.Standing == federation.Ended {
		return nil, nil, fmt.Errorf("%s %w", trust, model.ErrEnded)
	}
	if err := d.Unmask(was); err != nil {
		return nil, nil, err
	}
	rules, err := d.rules(file)
	if err != nil {
		return nil, nil, err
	}
	now = was.Clone()
	err = now.Change(m.Now(), app, provider, func(t *federation.Trust) error {
		t.Rules = rules
		if d.Subject == nil {
			return nil
		}
		t.Subject = d.Subject.Expression
		if d.Subject.Format != "" {
			format, ok := saml.FormatByWord(d.Subject.Format)
			if !ok {
				return at(file, "$.subject.format",
					"%q is no format; write persistent, transient, email, unspecified or a whole identifier",
					d.Subject.Format)
			}
			if file != nil && t.SubjectFormat == saml.FormatTransient && format != t.SubjectFormat {
				return at(file, "$.subject.format", "the trust sends a transient name, by which nobody is known "+
					"again, "+
					"and a file does not turn that; `tressik claims set %s --subject-format %s` does", trust,
					d.Subject.Format)
			}
			t.SubjectFormat = format
		}
		return nil
	})
	if err != nil || dry {
		return was, now, err
	}
	if err := handoff.New(m.Book).TakeBack(was, now); err != nil {
		return nil, nil, err
	}
	return was, now, m.Change(func(tx *model.Edit) error { return tx.PutTrust(was, now, "claims.import") })
}

// rules compiles what a document says.
func (d *Document) rules(file *ast.File) ([]claims.Rule, error) {
	engine, err := claims.NewEngine()
	if err != nil {
		return nil, err
	}
	engine = engine.Strict()
	if d.Subject != nil && d.Subject.Expression != "" {
		if _, err := engine.Compile(d.Subject.Expression); err != nil {
			return nil, at(file, "$.subject.expression", "%s", reason(err))
		}
	}
	out := []claims.Rule{}
	for i, c := range d.Claims {
		where := fmt.Sprintf("$.claims[%d]", i)
		r := claims.Rule{Claim: c.Claim, Expression: c.Expression, Name: c.Name, NameFormat: c.NameFormat, When: c.When,
			Single: c.Single}
		if r.Name == "" {
			r.Name = c.Claim
		}
		switch {
		case c.Claim == "":
			return nil, at(file, where, "the claim has no name (claim:)")
		case len(claims.Set(out, r)) == len(out):
			return nil, at(file, where+".claim", "%s is there twice", c.Claim)
		case (c.Expression == "") == (c.Roles == nil):
			return nil, at(file, where+".claim", "%s needs an expression or a table of roles, and not both", c.Claim)
		case c.Roles != nil:
			if r.Roles, err = c.Roles.roles(file, where+".roles"); err != nil {
				return nil, err
			}
			r.Expression = r.Roles.Expression()
		}
		if _, err := engine.Compile(r.Expression); err != nil {
			return nil, at(file, where+".expression", "%s", reason(err))
		}
		if r.When != "" {
			if _, err := engine.Condition(r.When); err != nil {
				return nil, at(file, where+".when", "%s", reason(err))
			}
		}
		out = claims.Set(out, r)
	}
	return out, nil
}

func (d *RolesDocument) roles(file *ast.File, where string) (*claims.Roles, error) {
	out := &claims.Roles{Default: d.Default, Several: d.Several}
	if out.Several == "" {
		out.Several = "first"
	}
	if out.Several != "first" && out.Several != "all" {
		return nil, at(file, where+".several", "%q: write first or all", d.Several)
	}
	for i, x := range d.Of {
		if x.Group == "" || x.Role == "" {
			return nil, at(file, fmt.Sprintf("%s.of[%d]", where, i), "a row has a group and a role")
		}
		out.Of = append(out.Of, claims.RoleOf(x))
	}
	if len(out.Of) == 0 {
		return nil, at(file, where, "the table is empty")
	}
	return out, nil
}

// reason is what is wrong with an expression, and where in it.
func reason(err error) string {
	var c *claims.CompileError
	if errors.As(err, &c) {
		return fmt.Sprintf("%s, at column %d of the expression %s", c.Reason, c.Column, c.Expression)
	}
	return err.Error()
}

// at says where in a file a part of it stands.
func at(file *ast.File, path, format string, args ...any) error {
	e := &DocumentError{Detail: fmt.Sprintf(format, args...)}
	if file != nil {
		e.Line, e.Column = 1, 1
	}
	if p, err := yaml.PathString(path); err == nil && file != nil {
		if node, err := p.FilterFile(file); err == nil && node != nil && node.GetToken() != nil {
			e.Line, e.Column = node.GetToken().Position.Line, node.GetToken().Position.Column
		}
	}
	return e
}

// documentError takes what the reader of YAML says.
func documentError(err error) error {
	var y yaml.Error
	if errors.As(err, &y) && y.GetToken() != nil {
		return &DocumentError{y.GetToken().Position.Line, y.GetToken().Position.Column, y.GetMessage()}
	}
	line, _, _ := strings.Cut(err.Error(), "\n")
	return &DocumentError{1, 1, line}
}
