package claims

import (
	"slices"
	"strings"
)

// Schemas lists the schemas whose attributes are known: inetOrgPerson (RFC 2798), eduPerson, posixAccount (RFC 2307).
func Schemas() []string { return []string{"inetOrgPerson", "eduPerson", "posixAccount"} }

// Schema returns the attributes of a schema that apps are given, in the order in which people look for them; ok is
// false for a name that is none. Credentials, pictures and the like are not among them.
func Schema(name string) (attributes []string, ok bool) {
	i := slices.IndexFunc(Schemas(), func(s string) bool { return strings.EqualFold(s, name) })
	if i < 0 {
		return nil, false
	}
	return strings.Fields([]string{
		"mail displayName cn givenName sn uid title o ou departmentNumber employeeNumber employeeType " +
			"telephoneNumber mobile preferredLanguage",
		"eduPersonPrincipalName eduPersonAffiliation eduPersonScopedAffiliation eduPersonPrimaryAffiliation " +
			"eduPersonEntitlement eduPersonUniqueId eduPersonAssurance eduPersonOrcid",
		"uid uidNumber gidNumber homeDirectory loginShell gecos",
	}[i]), true
}
