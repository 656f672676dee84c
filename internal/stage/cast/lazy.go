package cast

import (
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
)

// lazily is a releaser that is made when it is first asked for.
type lazily func() (*federation.Releaser, error)

// SubjectOf returns a person's subject, or why the claims of the trust cannot be worked out.
func (f lazily) SubjectOf(p *people.Person) (string, error) {
	r, err := f()
	if err != nil {
		return "", err
	}
	return r.SubjectOf(p)
}

// Claims returns the claims for scopes; none where they cannot be worked out, which SubjectOf has said before.
func (f lazily) Claims(p *people.Person, scopes []string, rulesAlone bool) map[string]any {
	r, err := f()
	if err != nil {
		return map[string]any{}
	}
	return r.Claims(p, scopes, rulesAlone)
}
