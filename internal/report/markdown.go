package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/verdict"
)

// ComparisonMarkdown is a comparison for the comment of a change request: a table
// of the changes, and all of what is breaking or altering below it.
func ComparisonMarkdown(c Comparison) string {
	var b strings.Builder
	fmt.Fprintf(&b, "### %s → %s: %s\n", c.Old, c.New, c.Summary())
	if c.Needs != "" && len(c.Changes) > 0 {
		fmt.Fprintf(&b, "\nThis change needs version **%s** or higher.\n", c.Needs)
	}
	if len(c.Changes) == 0 {
		return b.String()
	}
	b.WriteString("\n| | change | where | from → to |\n|---|---|---|---|\n")
	whole, rows, more := summed(c.Changes)
	for _, f := range c.Changes[:len(whole)+len(rows)] {
		said := f.Verdict().String()
		switch {
		case f.Waiver != nil:
			said += ", waived"
		case f.Verdict() == verdict.Breaking:
			said = "**breaking**"
		}
		fmt.Fprintf(&b, "| %s | `%s` | `%s` | %s |\n", said, f.Kind, f.Where, cell(f.FromTo()))
	}
	if more > 0 {
		fmt.Fprintf(&b, "\n%d more are not shown: `faithful compare --as json` has all of them.\n", more)
	}
	for _, f := range whole {
		fmt.Fprintf(&b, "\n<details>\n<summary>%s: <code>%s</code></summary>\n\n```text\n%s```\n\n</details>\n",
			f.Verdict(), f.Where, changeText(c, f))
	}
	return b.String()
}

// cell is text that stays in its cell of a table.
func cell(s string) string {
	s = strings.NewReplacer("|", "\\|", "\n", " ", "`", "'").Replace(s)
	if s == "" {
		return ""
	}
	return "`" + s + "`"
}

// changeText is all that is said of a change, without colour.
func changeText(c Comparison, f *compare.Change) string {
	var b bytes.Buffer
	p := New(&b, Plain)
	p.refs, p.needs = [2]string{c.Old, c.New}, c.Needs
	p.aChange(f)
	return strings.ReplaceAll(b.String(), "```", "'''")
}

// The documents that continuous integration reads: one case per change, a failure for
// each break that nobody waived.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string       `xml:"classname,attr"`
	Name    string       `xml:"name,attr"`
	File    string       `xml:"file,attr,omitempty"`
	Failure *junitDetail `xml:"failure,omitempty"`
	Skipped *junitDetail `xml:"skipped,omitempty"`
}

type junitDetail struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// ComparisonJUnit is a comparison as a test report.
func ComparisonJUnit(c Comparison) ([]byte, error) {
	suite := junitSuite{Name: c.Old + " → " + c.New, Tests: len(c.Changes), Failures: c.Unwaived()}
	for _, f := range c.Changes {
		one := junitCase{Class: f.Where, Name: string(f.Kind)}
		if f.Place.File != nil && !f.InOld {
			one.File = f.Place.File.Name
		}
		switch {
		case f.Waiver != nil:
			one.Skipped = &junitDetail{Message: "waived: " + f.Waiver.Reason}
			suite.Skipped++
		case f.Verdict() == verdict.Breaking:
			one.Failure = &junitDetail{Message: f.FromTo(), Text: changeText(c, f)}
		}
		suite.Cases = append(suite.Cases, one)
	}
	out, err := xml.MarshalIndent(junitSuites{Suites: []junitSuite{suite}}, "", "  ")
	return append([]byte(xml.Header), append(out, '\n')...), err
}

// ComparisonList is what a version changed, for a changelog: what breaks first.
func ComparisonList(c Comparison) string {
	var b strings.Builder
	for _, group := range []struct {
		title string
		of    func(f *compare.Change) bool
	}{
		{"Breaking", func(f *compare.Change) bool { return f.Verdict() == verdict.Breaking }},
		{"Altering", func(f *compare.Change) bool { return f.Verdict() == verdict.Altering }},
		{"Compatible", func(f *compare.Change) bool { return f.Verdict() == verdict.Compatible }},
	} {
		first := true
		for _, f := range c.Changes {
			if !group.of(f) {
				continue
			}
			if first {
				fmt.Fprintf(&b, "\n### %s\n\n", group.title)
				first = false
			}
			fmt.Fprintf(&b, "- `%s` %s: %s\n", f.Where, strings.ReplaceAll(string(f.Kind), "-", " "), cell(f.FromTo()))
		}
	}
	return b.String()
}
