package export

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"
)

// JUnit is results in the form of XML that servers for pipelines read.
type JUnit struct {
	XMLName  xml.Name `xml:"testsuites"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Errors   int      `xml:"errors,attr"`
	Time     string   `xml:"time,attr"`
	Suites   []Suite  `xml:"testsuite"`
}

// Suite is some of the results.
type Suite struct {
	Name     string  `xml:"name,attr"`
	Tests    int     `xml:"tests,attr"`
	Failures int     `xml:"failures,attr"`
	Errors   int     `xml:"errors,attr"`
	Skipped  int     `xml:"skipped,attr"`
	Time     string  `xml:"time,attr"`
	At       string  `xml:"timestamp,attr,omitempty"`
	Hostname string  `xml:"hostname,attr,omitempty"`
	Cases    []Check `xml:"testcase"`
}

// Check is one result.
type Check struct {
	Name    string   `xml:"name,attr"`
	Class   string   `xml:"classname,attr"`
	Time    string   `xml:"time,attr"`
	Failure *Failure `xml:"failure,omitempty"`
	Skipped *Skipped `xml:"skipped,omitempty"`
	Out     string   `xml:"system-out,omitempty"`
}

// Failure is why a result is not as it should be.
type Failure struct {
	Message string `xml:"message,attr"`
	Kind    string `xml:"type,attr"`
	Text    string `xml:",chardata"`
}

// Skipped is why there is no result.
type Skipped struct {
	Message string `xml:",chardata"`
}

// Seconds is a time as it stands there.
func Seconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

// Add adds a suite, and counts what is in it.
func (j *JUnit) Add(s Suite) {
	s.Tests = len(s.Cases)
	for i := range s.Cases {
		c := &s.Cases[i]
		c.Name, c.Class, c.Out = clean(c.Name), clean(c.Class), clean(c.Out)
		if c.Time == "" {
			c.Time = Seconds(0)
		}
		if c.Failure != nil {
			s.Failures++
			c.Failure.Message, c.Failure.Text = clean(c.Failure.Message), clean(c.Failure.Text)
		}
		if c.Skipped != nil {
			s.Skipped++
		}
	}
	if s.Time == "" {
		s.Time = Seconds(0)
	}
	j.Suites = append(j.Suites, s)
	j.Tests, j.Failures = j.Tests+s.Tests, j.Failures+s.Failures
}

// clean is text without what XML cannot hold.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || !unicode.IsControl(r) && r != 0xFFFE && r != 0xFFFF {
			return r
		}
		return -1
	}, strings.ToValidUTF8(s, "\uFFFD"))
}

// Write writes all of it.
func (j *JUnit) Write(w io.Writer) error {
	if j.Time == "" {
		j.Time = Seconds(0)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(j); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
