package finding

import (
	"errors"
	"fmt"
	"strings"
)

// Field names a value that somebody enters, in an error about it: "strength" and not the flag, the key of a file or the
// box of a page by which it was entered. Whoever asked for the value knows that, and says it by Say.
type Field string

// The fields of which errors speak. Each is a flag of the same name.
const (
	FieldACS                Field = "acs"
	FieldAccept             Field = "accept"
	FieldAccessToken        Field = "access-token"
	FieldAccountKey         Field = "account-key"
	FieldActing             Field = "acting"
	FieldActor              Field = "actor"
	FieldAdministrators     Field = "administrators"
	FieldAgreedBy           Field = "agreed-by"
	FieldFetchesFrom        Field = "fetches-from"
	FieldClientKey          Field = "client-key"
	FieldClientKeys         Field = "client-keys"
	FieldAdmits             Field = "admits"
	FieldAs                 Field = "as"
	FieldAsItself           Field = "as-itself"
	FieldAt                 Field = "at"
	FieldBackChannelLogout  Field = "back-channel-logout"
	FieldBase               Field = "base"
	FieldBy                 Field = "by"
	FieldBind               Field = "bind"
	FieldBindDN             Field = "bind-dn"
	FieldMap                Field = "map"
	FieldBreak              Field = "break"
	FieldCA                 Field = "ca"
	FieldCall               Field = "call"
	FieldClient             Field = "client"
	FieldClientAuth         Field = "client-auth"
	FieldClientID           Field = "client-id"
	FieldContact            Field = "contact"
	FieldDevice             Field = "device"
	FieldDiscovery          Field = "discovery"
	FieldEarly              Field = "early"
	FieldEncrypt            Field = "encrypt"
	FieldEntity             Field = "entity"
	FieldEntityID           Field = "entity-id"
	FieldExpectAccount      Field = "expect-account"
	FieldFilter             Field = "filter"
	FieldFor                Field = "for"
	FieldForceAuthn         Field = "force-authn"
	FieldFrontChannelLogout Field = "front-channel-logout"
	FieldHomePage           Field = "home-page"
	FieldHosts              Field = "hosts"
	FieldIDToken            Field = "id-token"
	FieldIDTokenAlg         Field = "id-token-alg"
	FieldIncludes           Field = "includes"
	FieldIsPassive          Field = "is-passive"
	FieldKey                Field = "key"
	FieldKinds              Field = "kinds"
	FieldKnown              Field = "known"
	FieldLasts              Field = "lasts"
	FieldLedger             Field = "ledger"
	FieldLogout             Field = "logout"
	FieldMaxAge             Field = "max-age"
	FieldMayAsk             Field = "may-ask"
	FieldMetadata           Field = "metadata"
	FieldMost               Field = "most"
	FieldName               Field = "name"
	FieldNameFormat         Field = "name-format"
	FieldNote               Field = "note"
	FieldOrg                Field = "org"
	FieldOut                Field = "out"
	FieldOver               Field = "over"
	FieldOwn                Field = "own"
	FieldOwner              Field = "owner"
	FieldEnds               Field = "ends"
	FieldPKCE               Field = "pkce"
	FieldOverlap            Field = "overlap"
	FieldPage               Field = "page"
	FieldPasswordEnv        Field = "password-env"
	FieldPasswordFile       Field = "password-file"
	FieldBoundTokens        Field = "bound-tokens"
	FieldAboutURL           Field = "about-url"
	FieldDisplayName        Field = "display-name"
	FieldEntityAttribute    Field = "entity-attribute"
	FieldErrorURL           Field = "error-url"
	FieldLogo               Field = "logo"
	FieldPrivacyURL         Field = "privacy-url"
	FieldPublishedContact   Field = "published-contact"
	FieldScopeNamespace     Field = "scope-namespace"
	FieldScopeOf            Field = "scope-of"
	FieldNextSigner         Field = "next-signer"
	FieldNarrowAmount       Field = "narrow-amount"
	FieldNarrowRecords      Field = "narrow-records"
	FieldNeedsFresh         Field = "needs-fresh"
	FieldNeedsStrength      Field = "needs-strength"
	FieldRecords            Field = "records"
	FieldWhole              Field = "whole"
	FieldCert               Field = "cert"
	FieldDPoPKey            Field = "dpop-key"
	FieldClientCert         Field = "client-cert"
	FieldClientCertCA       Field = "client-cert-ca"
	FieldClientCertName     Field = "client-cert-name"
	FieldProfile            Field = "profile"
	FieldPushedRequests     Field = "pushed-requests"
	FieldRequestObjects     Field = "request-objects"
	FieldReads              Field = "reads"
	FieldReason             Field = "reason"
	FieldRedirect           Field = "redirect"
	FieldRefresh            Field = "refresh"
	FieldRefreshFrom        Field = "refresh-from"
	FieldRefreshIdle        Field = "refresh-idle"
	FieldReplace            Field = "replace"
	FieldResource           Field = "resource"
	FieldRoleField          Field = "role-field"
	FieldSHA1               Field = "sha1"
	FieldSSO                Field = "sso"
	FieldSays               Field = "says"
	FieldScope              Field = "scope"
	FieldSecretFile         Field = "secret-file"
	FieldSession            Field = "session"
	FieldSignInFrom         Field = "sign-in-from"
	FieldSignInLink         Field = "sign-in-link"
	FieldSignRequests       Field = "sign-requests"
	FieldService            Field = "service"
	FieldSignedBy           Field = "signed-by"
	FieldSignedOut          Field = "signed-out"
	FieldSigns              Field = "signs"
	FieldSingle             Field = "single"
	FieldSpeaksFor          Field = "speaks-for"
	FieldStageAt            Field = "stage-at"
	FieldStart              Field = "start"
	FieldStrangers          Field = "strangers"
	FieldStrength           Field = "strength"
	FieldSubject            Field = "subject"
	FieldSubjectFormat      Field = "subject-format"
	FieldTitle              Field = "title"
	FieldSuppose            Field = "suppose"
	FieldTLSPin             Field = "tls-pin"
	FieldTimeout            Field = "timeout"
	FieldUnknown            Field = "unknown"
	FieldUnsolicited        Field = "unsolicited"
	FieldUntil              Field = "until"
	FieldUse                Field = "use"
	FieldWhen               Field = "when"
)

// sentence is an error that names fields.
type sentence struct {
	error
	format string
	args   []any
}

// Unwrap returns the sentence as fmt.Errorf made it.
func (s *sentence) Unwrap() error { return s.error }

// Errorf is fmt.Errorf for an error that names fields: each is an argument of type Field, written with %s.
func Errorf(format string, args ...any) error {
	return &sentence{fmt.Errorf(format, args...), format, args}
}

// Say is the text of an error, with each field that it or what it wraps names as name has it.
func Say(err error, name func(Field) string) string {
	if err == nil {
		return ""
	}
	if s, ok := err.(*sentence); ok {
		args := make([]any, len(s.args))
		for i, a := range s.args {
			switch x := a.(type) {
			case Field:
				args[i] = name(x)
			case error:
				args[i] = errors.New(Say(x, name))
			default:
				args[i] = a
			}
		}
		return fmt.Errorf(s.format, args...).Error()
	}
	text := err.Error()
	for _, inner := range wrapped(err) {
		if was, now := inner.Error(), Say(inner, name); was != "" && was != now {
			text = strings.Replace(text, was, now, 1)
		}
	}
	return text
}

// Given is a field that an error names, with what was given for it; "" where the error does not say that next.
type Given struct {
	Field Field
	Value string
}

// FieldsOf lists the fields that an error, or what it wraps, names.
func FieldsOf(err error) []Given {
	var out []Given
	if s, ok := err.(*sentence); ok {
		for i, a := range s.args {
			f, is := a.(Field)
			if !is {
				if inner, wraps := a.(error); wraps {
					out = append(out, FieldsOf(inner)...)
				}
				continue
			}
			g := Given{Field: f}
			if i+1 < len(s.args) {
				if v, text := s.args[i+1].(string); text {
					g.Value = v
				}
			}
			out = append(out, g)
		}
		return out
	}
	for _, inner := range wrapped(err) {
		out = append(out, FieldsOf(inner)...)
	}
	return out
}

func wrapped(err error) []error {
	switch x := err.(type) {
	case interface{ Unwrap() error }:
		if e := x.Unwrap(); e != nil {
			return []error{e}
		}
	case interface{ Unwrap() []error }:
		return x.Unwrap()
	}
	return nil
}
