package federation

import (
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Judge judges all sides of a party as they are in the ledger.
func (p *Party) Judge(c *Crowd, now time.Time) finding.List {
	var out finding.List
	if p.Role() != nil || len(p.Sides()) == 0 {
		out = saml.JudgeEntity(&p.Entity, p.Kind.Side(), now)
	}
	if p.Client != nil {
		out = append(out, p.Client.Judge()...)
	}
	if p.API != nil {
		out.Pass(finding.APIAudience, "audience", p.API.Audience)
	}
	if p.OpenID != nil {
		out = append(out, oidc.JudgeDiscovery(&p.OpenID.Discovery, "")...)
		if _, found, err := oidc.ReadKeys([]byte(p.OpenID.JWKS), finding.Provider); err == nil {
			out = append(out, found...)
		}
	}
	return append(out, p.JudgeAdmins(c)...)
}

// Administers reports whether somebody may consent for everyone at a provider: where it names nobody, nobody may.
func (p *Party) Administers(who *people.Person) bool {
	group, named := strings.CutPrefix(p.Admins, "group:")
	return named && who != nil && who.In(group)
}

// Agree is what has an administrator of a provider agree for everyone to what a trust asks for, or to the one
// permission that is named: first somebody has to be named who may.
func (p *Party) Agree(trust, permission string) finding.Remedy {
	give := finding.Run("consent", "give", trust, "--for", "everyone")
	if permission != "" {
		give = finding.Run("consent", "give", trust, permission, "--for", "everyone")
	}
	if p.Own && p.Admins == "" {
		return finding.Run("provider", "change", p.Name, "--administrators", "group:NAME").Then(give)
	}
	return give
}

// JudgeAdmins warns of a group of administrators in which nobody of the ledger is, or fewer than have to agree.
func (p *Party) JudgeAdmins(c *Crowd) finding.List {
	group := strings.TrimPrefix(p.Admins, "group:")
	if group == "" || c.People == 0 || c.In(group) >= p.Needs() {
		return nil
	}
	if n := c.In(group); n > 0 {
		return finding.List{{ID: finding.ProviderAdministrators, Level: finding.Warning,
			Check:    "who agrees to what lies past a registrar's bounds",
			Saw:      fmt.Sprintf("the group %s, in which %d is", group, n),
			Expected: fmt.Sprintf("%d, as many as have to agree", p.Needs()), Side: finding.Ledger,
			Fix: finding.Do("put another person into that group, and load people again")}}
	}
	fix := finding.Do("load people with that group")
	if n := near.Names(group, c.GroupNames()); len(n) > 0 {
		fix = finding.Run("provider", "change", p.Name, "--administrators", "group:"+n[0])
	}
	return finding.List{{ID: finding.ProviderAdministrators, Level: finding.Warning,
		Check: "who may consent for everyone",
		Saw:   "the group " + group + ", in which nobody is", Expected: "a group that people in the ledger are in",
		Side: finding.Ledger, Fix: fix}}
}

// JudgeContact says where nobody is known to write to when something changes at a foreign party.
func (p *Party) JudgeContact() finding.List {
	if p.Own || p.Contact() != "" {
		return nil
	}
	fix := finding.Do("ask its owner to name one in its metadata, and read that again")
	if p.Client != nil {
		fix = finding.Run("app", "change", p.Name, "--contact", "MAIL")
	}
	return finding.List{{ID: finding.PartyContact, Level: finding.Note, Check: "contact of " + p.Name, Saw: "none",
		Expected: "whom to write to when something changes", Side: p.Kind.Side(), Fix: fix}}
}
