package inspect

import (
	"crypto"
	"strings"

	"github.com/beevik/etree"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// inspectLogout explains a logout message and, with a trust, judges it as the other side of it would. Which side sent
// it is known by its issuer.
func (d *Inspector) inspectLogout(root *etree.Element, c *saml.Carried, in Input) (*Inspection, error) {
	v := &Inspection{Kind: "SAML " + root.Tag, Trust: in.Trust}
	issuer := ""
	q, err := saml.ReadLogoutRequest(root)
	if err == nil {
		issuer = q.Issuer
		v.fact("ID", q.ID)
		v.fact("Issuer", q.Issuer)
		v.fact("Destination", q.Destination)
		v.fact("Made at", when(q.IssueInstant))
		if q.Encrypted() {
			v.fact("Signs out", "an encrypted name identifier")
		}
		v.fact("Signs out, not verified", q.NameID.Value)
		v.fact("Sessions", strings.Join(q.Sessions, ", "))
		v.fact("Reason", q.Reason)
	} else if a, aerr := saml.ReadLogoutResponse(root); aerr == nil {
		issuer = a.Issuer
		v.fact("ID", a.ID)
		v.fact("Issuer", a.Issuer)
		v.fact("Destination", a.Destination)
		v.fact("In response to", a.InResponseTo)
		v.fact("Made at", when(a.IssueInstant))
		v.fact("Status", a.Status.Words())
	} else {
		if xmlsec.Is(root, saml.NSProtocol, "LogoutResponse") {
			err = aerr
		}
		v.Verdict, v.Findings = judge.Refused, finding.List{saml.Unread(root, err, finding.Sender)}
		return v, nil
	}
	if in.Trust == "" {
		v.Findings.Add(unjudged())
		return v, nil
	}
	_, terms, app, provider, err := d.samlTrust(in.Trust, "a SAML logout message")
	if err != nil {
		return nil, err
	}
	from, to := app, provider
	if issuer == provider.Entity.ID {
		from, to = provider, app
	}
	e := federation.LogoutExpectation(terms, from, to, in.At)
	if q != nil && q.Encrypted() {
		if e.Unseals.Keys, err = d.opens(to, in); err != nil {
			return nil, err
		}
	}
	e.CheckRequest, e.RequestID = in.Request != "", in.Request
	j := saml.JudgeLogout(c, root, e)
	d.byStandIn(j.Findings, from, func(keys []crypto.PublicKey) finding.List {
		e.Keys = keys
		return saml.JudgeLogout(c, root, e).Findings
	})
	v.Verdict, v.Findings, v.NotChecked, v.Subject, v.Format = j.Verdict, j.Findings, j.NotChecked, j.Subject, j.Format
	return v, nil
}

// unjudged says that nothing was verified, since no trust was named.
func unjudged() finding.Finding {
	return finding.Finding{ID: finding.InspectUnjudged, Level: finding.Note, Check: "judgement",
		Saw: "nothing was verified", Expected: "a trust to judge by", Side: finding.Ledger,
		Fix: finding.Run("inspect", "FILE", "--trust", "APP@PROVIDER")}
}
