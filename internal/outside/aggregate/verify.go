package aggregate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// Verification is the outcome of verifying a metadata document.
type Verification struct {
	Verdict  judge.Verdict `json:"verdict"`
	Entities []string      `json:"entities"` // entity IDs in the order of the document; none where it is refused
	SignedBy string        `json:"signedBy,omitempty"`
	Survey   *saml.Survey  `json:"document,omitempty"`
	Broken   []saml.Listed `json:"broken"`   // what cannot be used as it is
	Doubtful []saml.Listed `json:"doubtful"` // what should not be published as it is; each is in one list
	Findings finding.List  `json:"findings" rows:"each"`
}

// Verify reads a whole document once, verifies the signature over it and judges what is in it. Broken entities are
// named; the others can be used. The error is that of opening or reading the file, or of the context.
func (s *Source) Verify(ctx context.Context, how Reading, now time.Time) (*Verification, error) {
	v := &Verification{Verdict: judge.Refused, Broken: []saml.Listed{}, Doubtful: []saml.Listed{}}
	ids := []string{}
	how.Now = now
	var lone *saml.Entity
	survey, err := s.Survey(ctx, how, func(l saml.Listed, el *etree.Element) error {
		ids = append(ids, l.EntityID)
		lone = loneOf(el)
		l.Raw = ""
		switch {
		case len(l.Problems) > 0:
			v.Broken = append(v.Broken, l)
		case len(l.Doubts) > 0:
			v.Doubtful = append(v.Doubtful, l)
		}
		return nil
	})
	var re *xmlsec.ReadError
	var se *xmlsec.SignatureError
	v.Survey, v.Entities = survey, []string{}
	by := keys.Fingerprint(how.SignedBy)
	switch {
	case err == nil:
	case errors.As(err, &re):
		v.none()
		v.Survey = nil
		v.Findings.Add(saml.ReadFinding(err))
		return v, nil
	case errors.As(err, &se):
		v.Findings.Add(finding.Finding{ID: finding.MetadataSignature.With(string(se.Reason)), Level: finding.Error,
			Check: "signature", Saw: se.Detail,
			Expected: "a signature with the key of " + by, Side: finding.Sender,
			Fix: finding.Do("do not use it; fetch it again from its source, and check with its publisher which " +
				"certificate " +
				"signs it")})
		v.none()
		return v, nil
	case errors.Is(err, saml.ErrNotMetadata), errors.Is(err, saml.ErrBadTimeFormat):
		v.none()
		v.Survey = nil
		v.Findings.Add(finding.Finding{ID: finding.MetadataShape, Level: finding.Error, Check: "document",
			Saw:      err.Error(),
			Expected: "SAML metadata", Side: finding.Sender, Fix: finding.Do("ask for the metadata document")})
		return v, nil
	default:
		return nil, err
	}
	v.Entities, v.SignedBy, v.Verdict = ids, by, judge.Accepted
	v.Findings.Pass(finding.MetadataSignature, "signature", xmlsec.ShortAlgorithm(survey.Method)+" by "+by)
	v.Findings = append(v.Findings, Findings(s.Name, survey, slices.Concat(v.Broken, v.Doubtful), lone, now)...)
	if v.Findings.Failed() {
		v.Verdict = judge.Refused
	}
	return v, nil
}

// Findings are what is to be said of a document that was read: its validity, and the entities of it that cannot be used
// or should not be published as they are, which the others do not suffer from. Where a single entity is the document,
// lone, what is wrong with it is wrong with the document; nil is one that could not be read.
func Findings(name string, s *saml.Survey, list []saml.Listed, lone *saml.Entity, now time.Time) (out finding.List) {
	saml.JudgeValidity(&out, s.ValidUntil, finding.Sender, now)
	if s.Aggregate {
		if what := s.Doubts(now); len(what) > 0 {
			out.Add(finding.Finding{ID: finding.MetadataDoubtful, Level: finding.Warning, Check: "document",
				Saw: strings.Join(what, "; "), Expected: fit, Side: finding.Sender,
				Fix: finding.Do("tell whoever publishes it")})
		}
		return append(out, BrokenFindings(name, list)...)
	}
	if lone != nil {
		for _, f := range saml.JudgeRoles(lone, now).Without(finding.Pass) {
			if !slices.ContainsFunc(out, func(x finding.Finding) bool { return x.ID == f.ID && x.Saw == f.Saw }) {
				out = append(out, f)
			}
		}
	}
	for _, l := range list {
		out = append(out, Beside(l, lone, now)...)
	}
	return out
}

// loneOf is an entity that is a document by itself; nil is one of several, or one that cannot be read.
func loneOf(el *etree.Element) *saml.Entity {
	if xmlsec.Is(el.Parent(), saml.NSMetadata, "EntitiesDescriptor") {
		return nil
	}
	e, err := saml.EntityOf(el)
	if err != nil { // that is among its problems
		return nil
	}
	return e
}

// Beside are the findings of an entity, looked at by itself, beside those of saml.JudgeRoles. It is nil where it could
// not be read.
func Beside(l saml.Listed, e *saml.Entity, now time.Time) finding.List {
	if e != nil {
		l.Doubts = e.Doubts(now) // the rest is judged with its role
		if e.IDP != nil || e.SP != nil || len(e.Unread) > 0 {
			l.Problems = nil // they are, too
		}
	}
	out := BrokenFindings("", []saml.Listed{l})
	for i := range out {
		if out[i].ID == finding.MetadataBroken {
			out[i].Level, out[i].Expected = finding.Error, "an entity that can be used"
		}
	}
	return out
}

// none takes away what was read before it was clear that nothing of it counts.
func (v *Verification) none() { v.Broken, v.Doubtful = []saml.Listed{}, []saml.Listed{} }

// fit is what is expected of what is published.
const fit = "nothing that speaks against publishing it"

// mostNamed is how many broken entities have a finding each.
const mostNamed = 20

// BrokenFindings names the entities of a document that cannot be used as they are, and those that should not be
// published as they are.
func BrokenFindings(name string, list []saml.Listed) finding.List {
	var out finding.List
	say := func(id finding.ID, l *saml.Listed, what []string, expected string) {
		if len(what) == 0 {
			return
		}
		who := l.EntityID
		if who == "" {
			who = "one without an entity ID"
		}
		out.Add(finding.Finding{ID: id, Level: finding.Warning, Check: fmt.Sprintf("entity in line %d", l.Line),
			Saw: who + ": " + strings.Join(what, "; "), Expected: expected, Side: finding.Sender,
			Fix: finding.Do("tell whoever publishes it")})
	}
	for i, l := range list {
		if i == mostNamed {
			out.Add(finding.Finding{ID: finding.MetadataBroken, Level: finding.Warning, Check: "entities",
				Saw:      fmt.Sprintf("%d more with such problems", len(list)-mostNamed),
				Expected: "entities that can be used",
				Side:     finding.Sender, Fix: finding.Run("metadata", "find", name, "--broken")})
			break
		}
		say(finding.MetadataBroken, &l, l.Problems, "an entity that can be used; the others can")
		say(finding.MetadataDoubtful, &l, l.Doubts, fit)
	}
	return out
}
