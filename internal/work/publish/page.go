package publish

import (
	"bytes"
	"crypto/x509"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
)

//go:embed page.html
var pageText string

// page writes the page for people: what is published, how it is known to be genuine, and how often to read it again.
func (s *Site) page() ([]byte, error) {
	t, err := template.New("page").Funcs(template.FuncMap{
		"day":         func(t time.Time) string { return t.UTC().Format("2006-01-02") },
		"time":        func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
		"fingerprint": fingerprint,
		"kind":        func(k *federation.OwnKey) string { return keys.Describe(k.Certificate.PublicKey) },
		"often":       often,
		"parts":       func(s string) []string { return strings.SplitAfter(s, ":") },
		"place":       placeWords,
		"shown": func(k *federation.OwnKey) bool {
			return k.Place != federation.Unpublished &&
				(k.Use != federation.ForEncryption || k.Place == federation.Active)
		},
		"link": func(p string) string { return "./" + p },
	}).Parse(pageText)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = t.Execute(&b, s)
	return b.Bytes(), err
}

func fingerprint(c *x509.Certificate) string { return keys.Fingerprint(c) }

// placeWords says what a reader does with a key.
func placeWords(k *federation.OwnKey) string {
	switch {
	case k.Place == federation.Announced:
		return "to come: trust it from now on"
	case k.Place == federation.Outgoing:
		return "going: keep it until it is gone from here"
	case k.Use == federation.ForEncryption:
		return "in use: encrypt to it"
	}
	return "in use"
}

// often says a time between two readings in words.
func often(d time.Duration) string {
	switch hours, minutes := int(d.Hours()), int(d.Minutes()); {
	case hours >= 24:
		return "every day"
	case hours >= 2:
		return fmt.Sprintf("every %d hours", hours)
	default:
		return fmt.Sprintf("every %d minutes", minutes)
	}
}
