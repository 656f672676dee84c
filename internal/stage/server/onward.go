package server

import (
	"html/template"
	"net/http"
	"sync"
)

// Softly returns a writer that sends a browser on by a page in place of a redirect. A browser holds the page whose form
// it sent to where that page's content security policy lets the form lead, every redirect behind it included (Content
// Security Policy Level 3, section 6.4.1). A page that opens another begins anew; between parties whose pages are not
// ours nobody can know beforehand where the redirects lead.
func Softly(w http.ResponseWriter) http.ResponseWriter { return &softly{ResponseWriter: w} }

type softly struct {
	http.ResponseWriter
	led bool
}

var onwardTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("onward").Parse(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Passing on</title></head>
<body><p><a href="{{.}}">Continue</a></p></body></html>
`))
})

func (s *softly) WriteHeader(status int) {
	to := s.Header().Get("Location")
	if status < 300 || status > 399 || to == "" {
		s.ResponseWriter.WriteHeader(status)
		return
	}
	s.led = true
	s.Header().Del("Location")
	Secure(s.ResponseWriter, "'none'")
	s.Header().Set("Refresh", "0; url="+to)
	s.ResponseWriter.WriteHeader(http.StatusOK)
	_ = onwardTemplate().Execute(s.ResponseWriter, to) // the browser went away
}

func (s *softly) Write(b []byte) (int, error) {
	if s.led { // what a redirect says to whoever does not follow it
		return len(b), nil
	}
	return s.ResponseWriter.Write(b)
}
