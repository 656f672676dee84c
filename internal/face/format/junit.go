package format

import (
	"io"
	"time"

	"github.com/jstemmer/go-junit-report/v2/junit"
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
	all := junit.Testsuites{Name: name}
	var order []string
	by := map[string]*junit.Testsuite{}
	for _, c := range cases {
		s := by[c.Suite]
		if s == nil {
			s = &junit.Testsuite{Name: Safe(c.Suite), ID: len(order), Time: "0"}
			s.SetTimestamp(at.UTC())
			by[c.Suite], order = s, append(order, c.Suite)
		}
		x := junit.Testcase{Name: Safe(c.Name), Classname: Safe(c.Suite)}
		switch {
		case c.Failure != "":
			x.Failure = &junit.Result{Message: Safe(c.Failure), Data: Safe(c.Detail)}
		case c.Skipped != "":
			x.Skipped = &junit.Result{Message: Safe(c.Skipped), Data: Safe(c.Detail)}
		}
		s.AddTestcase(x)
	}
	for _, n := range order {
		all.AddSuite(*by[n])
	}
	return all.WriteXML(w)
}
