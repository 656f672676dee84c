package format

import (
	"encoding/xml"
	"io"
	"time"
)

// Case is one check of a suite, as CI systems show it.
type Case struct {
	Suite, Name string
	Failure     string // what is wrong, in a line; "" where nothing is
	Detail      string
	Skipped     string // why it was not run, or why it does not count
}

// JUnit writes cases in the XML that CI systems read: a suite for each name of one, with its cases in order.
func JUnit(w io.Writer, name string, at time.Time, cases []Case) error {
	type words struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	type one struct {
		Name    string `xml:"name,attr"`
		Class   string `xml:"classname,attr"`
		Failure *words `xml:"failure,omitempty"`
		Skipped *words `xml:"skipped,omitempty"`
	}
	type suite struct {
		Name     string `xml:"name,attr"`
		Tests    int    `xml:"tests,attr"`
		Failures int    `xml:"failures,attr"`
		Skipped  int    `xml:"skipped,attr"`
		At       string `xml:"timestamp,attr"`
		Cases    []one  `xml:"testcase"`
	}
	type suites struct {
		XMLName  xml.Name `xml:"testsuites"`
		Name     string   `xml:"name,attr"`
		Tests    int      `xml:"tests,attr"`
		Failures int      `xml:"failures,attr"`
		Suites   []*suite `xml:"testsuite"`
	}
	all := suites{Name: name}
	by := map[string]*suite{}
	for _, c := range cases {
		s := by[c.Suite]
		if s == nil {
			s = &suite{Name: Safe(c.Suite), At: at.UTC().Format("2006-01-02T15:04:05")}
			by[c.Suite] = s
			all.Suites = append(all.Suites, s)
		}
		x := one{Name: Safe(c.Name), Class: Safe(c.Suite)}
		switch {
		case c.Failure != "":
			x.Failure = &words{Safe(c.Failure), Safe(c.Detail)}
			s.Failures++
			all.Failures++
		case c.Skipped != "":
			x.Skipped = &words{Safe(c.Skipped), Safe(c.Detail)}
			s.Skipped++
		}
		s.Tests++
		all.Tests++
		s.Cases = append(s.Cases, x)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
