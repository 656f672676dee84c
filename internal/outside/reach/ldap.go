package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
)

// Errors of directory servers that callers test for.
var (
	ErrBind     = errors.New("the directory refuses the name or the password")
	ErrMany     = errors.New("more entries than are read")
	ErrNoEntry  = errors.New("the directory has no such entry")
	ErrNoPeople = errors.New("the directory has nobody who fits")
)

// LDAP is a directory server that is only ever read.
type LDAP struct {
	Source   people.Source
	Password string // of the bind name
}

// The bounds where a source says none.
const (
	ldapPage    = 500
	ldapMost    = 1_000_000
	ldapTimeout = 15 * time.Second
)

// personFilter and groupFilter are what is looked for where a source says nothing else.
const (
	personFilter = "(|(objectClass=inetOrgPerson)(objectClass=organizationalPerson)(objectClass=person)" +
		"(objectClass=posixAccount))"
	groupFilter = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))"
)

// dial connects with TLS, by ldaps: or StartTLS (RFC 4513, section 3), and binds with the source's name. The connection
// ends with the context. Referrals are never followed: TLS and the bind name are of this server alone.
func (l *LDAP) dial(ctx context.Context) (*ldap.Conn, error) {
	u, err := url.Parse(l.Source.At)
	if err != nil || u.Hostname() == "" || u.User != nil || u.RawQuery != "" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%q is no address of a directory server; it looks like "+
			"ldaps://directory.kestrelridge.example",
			Shown(l.Source.At))
	}
	cfg, err := Options{CA: []byte(l.Source.CA), Pin: l.Source.Pin}.tls()
	if err != nil {
		return nil, err
	}
	cfg.ServerName = u.Hostname()
	timeout := l.timeout()
	dialer := &net.Dialer{Timeout: timeout}
	var c *ldap.Conn
	if u.Scheme == "ldaps" {
		c, err = ldap.DialURL(l.Source.At, ldap.DialWithDialer(dialer), ldap.DialWithTLSConfig(cfg))
	} else {
		c, err = ldap.DialURL(l.Source.At, ldap.DialWithDialer(dialer))
		if err == nil {
			c.SetTimeout(timeout)
			if err = startTLS(c, cfg); err != nil {
				c.Close()
			}
		}
	}
	if err != nil {
		if isSilent(err) {
			return nil, fmt.Errorf("%s: %w within %s, or what answers there is no directory server", l.Source.At,
				ErrSlow,
				timeout)
		}
		return nil, explain(l.Source.At, Options{Timeout: timeout}, err)
	}
	c.SetTimeout(timeout)
	context.AfterFunc(ctx, func() { c.Close() })
	if l.Source.BindDN == "" {
		return c, nil
	}
	if err := bind(c, l.Source.BindDN, l.Password); err != nil {
		c.Close()
		return nil, fmt.Errorf("%s, as %s: %w", l.Source.At, l.Source.BindDN, err)
	}
	return c, nil
}

// startTLS goes over to TLS. The library passes on only the words of what goes wrong there, so the certificate is
// verified here, by the same rules, to tell why one is refused.
func startTLS(c *ldap.Conn, cfg *tls.Config) error {
	var refused error
	if !cfg.InsecureSkipVerify { // a pin alone is compared in its own way
		cfg = cfg.Clone()
		after := cfg.VerifyConnection
		cfg.InsecureSkipVerify = true
		cfg.VerifyConnection = func(s tls.ConnectionState) error {
			o := x509.VerifyOptions{Roots: cfg.RootCAs, DNSName: cfg.ServerName, Intermediates: x509.NewCertPool()}
			for _, above := range s.PeerCertificates[1:] {
				o.Intermediates.AddCert(above)
			}
			if _, err := s.PeerCertificates[0].Verify(o); err != nil {
				refused = &tls.CertificateVerificationError{UnverifiedCertificates: s.PeerCertificates, Err: err}
			} else if after != nil {
				refused = after(s)
			}
			return refused
		}
	} else if after := cfg.VerifyConnection; after != nil {
		cfg = cfg.Clone()
		cfg.VerifyConnection = func(s tls.ConnectionState) error {
			refused = after(s)
			return refused
		}
	}
	err := c.StartTLS(cfg)
	if refused != nil {
		return refused
	}
	return err
}

func (l *LDAP) timeout() time.Duration {
	if l.Source.Timeout > 0 {
		return time.Duration(l.Source.Timeout) * time.Second
	}
	return ldapTimeout
}

// bind signs in with a name and a password. An empty password would be no sign-in at all (RFC 4513, section 5.1.2), and
// is refused here.
func bind(c *ldap.Conn, dn, password string) error {
	if dn == "" || password == "" {
		return ErrBind
	}
	err := c.Bind(dn, password)
	if ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultNoSuchObject,
		ldap.LDAPResultInvalidDNSyntax,
		ldap.LDAPResultInappropriateAuthentication, ldap.LDAPResultUnwillingToPerform) {
		return ErrBind
	}
	return err
}

// People reads everybody whom the source's filter finds, with their groups, nested ones included, page by page. Errors:
// ErrBind, ErrTLS, ErrPin, ErrMany, ErrNoPeople, those of the context and of the way there.
func (l *LDAP) People(ctx context.Context) (*people.Directory, error) {
	filter := l.Source.Filter
	if filter == "" {
		filter = personFilter
	}
	if err := l.described(filter); err != nil {
		return nil, err
	}
	c, err := l.dial(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	var attrs []string
	if len(l.Source.Wanted) > 0 {
		attrs = append([]string{"objectClass", "uid", "mail", "memberOf", "entryUUID", l.Source.ID}, l.Source.Wanted...)
	} else {
		attrs = []string{"*", "memberOf", "entryUUID"}
	}
	list, err := l.search(ctx, c, filter, attrs, nil)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s under %s with %s: %w", l.Source.At, l.Source.Base, filter, ErrNoPeople)
	}
	list, err = l.search(ctx, c, groupFilter,
		[]string{"objectClass", "cn", "member", "uniqueMember", "memberUid"}, list)
	if err != nil {
		return nil, err
	}
	dir, err := people.FromEntries(list, l.Source.ID)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", l.Source.At, err)
	}
	return dir, nil
}

// search adds what a filter finds to a list.
func (l *LDAP) search(ctx context.Context, c *ldap.Conn, filter string, attrs []string,
	list []people.Entry) ([]people.Entry, error) {
	page, most := l.Source.Page, l.Source.Most
	if page == 0 {
		page = ldapPage
	}
	if most == 0 {
		most = ldapMost
	}
	control := ldap.NewControlPaging(uint32(page))
	begun := false
	for {
		r, err := c.Search(&ldap.SearchRequest{BaseDN: l.Source.Base, Scope: ldap.ScopeWholeSubtree,
			DerefAliases: ldap.NeverDerefAliases,
			TimeLimit:    int(l.timeout() / time.Second), Filter: filter, Attributes: attrs,
			Controls: []ldap.Control{control}})
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if !begun && control.PagingSize > 10 && l.Source.Page == 0 &&
			ldap.IsErrorAnyOf(err, ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultAdminLimitExceeded,
				ldap.LDAPResultUnwillingToPerform) {
			control = ldap.NewControlPaging(control.PagingSize / 5) // the server gives less at a time
			continue
		}
		if err != nil {
			return nil, l.explain(filter, err)
		}
		begun = true
		for _, e := range r.Entries {
			if len(list) == most {
				return nil, finding.Errorf("%s: %w (%d); narrow the search with %s or %s, or allow more with %s",
					l.Source.At, ErrMany, most, finding.FieldFilter, finding.FieldBase, finding.FieldMost)
			}
			x := people.Entry{DN: e.DN, Attributes: map[string][]string{}}
			for _, a := range e.Attributes {
				x.Attributes[a.Name] = a.Values
			}
			list = append(list, x)
		}
		paging, _ := ldap.FindControl(r.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if paging == nil || len(paging.Cookie) == 0 {
			return list, nil
		}
		control.SetCookie(paging.Cookie)
	}
}

// isSilent reports whether an error is that something took the connection and then said nothing that a directory server
// says, or nothing in time: the library does not tell the one from the other.
func isSilent(err error) bool {
	var answered *ldap.Error // by the server, with a code of its own
	return (!errors.As(err, &answered) || answered.ResultCode == ldap.ErrorNetwork) && Unreached(err) == err &&
		!errors.Is(err, ErrPin)
}

// described refuses what no server needs to be asked about: a base that is no name, a filter that cannot be read. What
// one binds with is not looked at: some servers take other names than those of entries. Errors: people.ErrSource.
func (l *LDAP) described(filter string) error {
	if _, err := ldap.ParseDN(l.Source.Base); err != nil {
		return finding.Errorf("%s is %w: %s %q is no name of an entry; it looks like dc=kestrelridge,dc=example "+
			"(RFC 4514)", l.Source.At, people.ErrSource, finding.FieldBase, l.Source.Base)
	}
	if _, err := ldap.CompileFilter(filter); err != nil {
		return l.explain(filter, err)
	}
	return nil
}

func (l *LDAP) explain(filter string, err error) error {
	at := l.Source.At
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return fmt.Errorf("%s: there is nothing at the base %s, or the bind name may not see it: %w", at, l.Source.Base,
			ErrNoEntry)
	case ldap.IsErrorAnyOf(err, ldap.ErrorFilterCompile, ldap.LDAPResultFilterError):
		return fmt.Errorf("%s: the filter %s cannot be read; it looks like (objectClass=inetOrgPerson) (RFC 4515)", at,
			filter)
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultAdminLimitExceeded):
		return finding.Errorf("%s: %w, says the server; ask for less at a time with %s, or bind with a name "+
			"that may read all", at, ErrMany, finding.FieldPage)
	case ldap.IsErrorWithCode(err, ldap.ErrorNetwork) && Unreached(err) != err:
		return fmt.Errorf("%s: %w", at, Unreached(err))
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultTimeLimitExceeded, ldap.ErrorNetwork):
		return finding.Errorf("%s: no whole answer within %s, or the connection ended (%w); raise %s, or narrow the "+
			"search", at, l.timeout(), err, finding.FieldTimeout)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultReferral):
		return fmt.Errorf("%s refers to another server, which is not followed; make a source of that one", at)
	}
	return fmt.Errorf("%s: %w", at, err)
}

// Check reports whether a password is that of an entry, by binding with it. Errors: ErrBind, and those of the way
// there.
func (l *LDAP) Check(ctx context.Context, dn, password string) error {
	anonymous := *l
	anonymous.Source.BindDN = ""
	c, err := anonymous.dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	return bind(c, dn, password)
}
