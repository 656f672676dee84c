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
	survey, err := s.Survey(ctx, how, func(l saml.Listed, _ *etree.Element) error {
		ids = append(ids, l.EntityID)
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
	saml.JudgeValidity(&v.Findings, survey.ValidUntil, finding.Sender, now)
	if v.Findings.Failed() {
		v.Verdict = judge.Refused
	}
	v.Findings = append(v.Findings, BrokenFindings(s.Name, slices.Concat(v.Broken, v.Doubtful))...)
	return v, nil
}

// none takes away what was read before it was clear that nothing of it counts.
func (v *Verification) none() { v.Broken, v.Doubtful = []saml.Listed{}, []saml.Listed{} }

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
		say(finding.MetadataDoubtful, &l, l.Doubts, "nothing that speaks against publishing it")
	}
	return out
}
