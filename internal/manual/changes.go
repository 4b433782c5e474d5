package manual

import (
	"encoding/hex"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/verdict"
)

// Step is what one version changed.
type Step struct {
	Old, New string    // names of versions; Old is "" for the first one. New may be "draft"
	When     time.Time // when New was sealed; zero for the draft
	Note     string    // Markdown
	Needs    string    // the version that the draft's changes ask for, or ""
	Report   *compare.Report
}

type stepView struct {
	Old, New, When, Needs string
	Note                  template.HTML
	Summary, Counts       string
	Told                  []changeView // what breaks or alters, and what nobody decided
	Others                []changeView // a line each
	Left                  int          // changes that the page has no room for
}

type changeView struct {
	Verdict, Kind, Where, To, FromTo, Waived string
	Undecided                                bool
	Groups                                   []effectView
}

type effectView struct {
	Verdict, Title, Sentence string
	Proofs                   []proofView
	None                     string // where no proof was found for a break: of what
}

type proofView struct {
	Before, Sent, Bytes, After string
	Note                       string
}

// The most that a page holds of one step: a version with thousands of changes would make a page that nobody can
// open. The terminal has all.
const (
	mostTold   = 100
	mostOthers = 400
	mostShown  = 2000 // bytes of a payload
)

// changesPage is what each version changed, and which two can be compared.
type changesPage struct {
	Steps    []stepView
	Versions []string    // the newer ones of Pairs
	Pairs    [][]pairing // by the older version
}

// pairing is a link to what changed between two versions; none where To is "".
type pairing struct{ Old, New, To string }

// betweenPath is the page of what changed between two versions: no version has two dots next to each other.
func betweenPath(from, to string) string { return "changes/" + from + ".." + to + ".html" }

func (s *site) changes() (p changesPage, err error) {
	steps, err := s.about.Steps()
	if err != nil {
		return p, err
	}
	for _, step := range steps {
		p.Steps = append(p.Steps, s.step(step))
	}
	versions := s.about.Versions
	if len(versions) < 3 {
		return p, nil // what two versions differ in is told already
	}
	p.Versions = versions[:len(versions)-1]
	for i, from := range versions[1:] {
		var row []pairing
		for j, to := range p.Versions {
			one := pairing{Old: from, New: to}
			if j <= i {
				one.To = betweenPath(from, to)
			}
			row = append(row, one)
		}
		p.Pairs = append(p.Pairs, row)
	}
	return p, nil
}

// between is what changed between any two versions.
func (s *site) between(from, to string) (stepView, error) {
	step, err := s.about.Between(from, to)
	if err != nil {
		return stepView{}, err
	}
	return s.step(step), nil
}

func (s *site) step(step Step) stepView {
	v := stepView{Old: step.Old, New: step.New, Needs: step.Needs, Note: prose(step.Note)}
	if !step.When.IsZero() {
		v.When = step.When.UTC().Format("2 January 2006")
	}
	if step.Old == "" {
		return v
	}
	v.Summary, v.Counts = step.Report.Summary(), counts(step.Report.Changes)
	for _, c := range step.Report.Changes {
		if plain := c.Verdict() == verdict.Compatible && !c.Undecided; plain && len(v.Others) < mostOthers {
			v.Others = append(v.Others, s.changed(c))
		} else if !plain && len(v.Told) < mostTold {
			v.Told = append(v.Told, s.changed(c))
		} else {
			v.Left++
		}
	}
	return v
}

// counts says how many of the changes add something, change it, or take it away.
func counts(changes []*compare.Change) string {
	added, gone := 0, 0
	for _, c := range changes {
		switch {
		case strings.HasSuffix(string(c.Kind), "-added"):
			added++
		case strings.HasSuffix(string(c.Kind), "-gone"):
			gone++
		}
	}
	return fmt.Sprintf("%d added, %d changed, %d gone", added, len(changes)-added-gone, gone)
}

func (s *site) changed(c *compare.Change) changeView {
	v := changeView{Verdict: c.Verdict().String(), Kind: strings.ReplaceAll(string(c.Kind), "-", " "), Where: c.Where,
		FromTo: plainly(c.FromTo()), Undecided: c.Undecided}
	if e := s.named[c.Where]; e != nil {
		v.To = address(e)
	}
	if c.Waiver != nil {
		v.Waived = c.Waiver.Reason
	}
	if c.Verdict() == verdict.Compatible && !c.Undecided {
		return v
	}
	for _, group := range verdict.Grouped(c.Effects) {
		e := effectView{Verdict: group[0].Verdict.String(), Title: verdict.Title(group),
			Sentence: sentence(group[0].Sentence)}
		var without, payloads []string
		for _, one := range group {
			switch p := one.Proof; {
			case p == nil:
				without = append(without, one.Covers)
			case len(p.Code) > 0 || !slices.Contains(payloads, p.JSON):
				payloads = append(payloads, p.JSON)
				e.Proofs = append(e.Proofs, proved(p))
			}
		}
		if group[0].Verdict == verdict.Breaking {
			e.None = strings.Join(without, ", ")
		}
		v.Groups = append(v.Groups, e)
	}
	return v
}

// proved is a proof in words: what was sent, and what became of it.
func proved(p *verdict.Proof) proofView {
	v := proofView{Sent: shortened(p.JSON), After: sentence(p.Reader + " " + p.Outcome)}
	switch {
	case len(p.Code) > 0:
		return proofView{Sent: strings.Join(p.Code, "\n")}
	case p.Request != "":
		v.Before = sentence(p.Writer + " sends " + p.Request)
	case p.Answer != "":
		v.Before = sentence(p.Writer + " answers " + p.Message + " with " + p.Answer)
	case p.JSON != "":
		v.Before = p.Writer + " writes " + p.Message
		if p.Encoding == "binary" {
			v.Bytes = shortened(hex.EncodeToString(p.Binary))
		} else {
			v.Before += " as JSON"
		}
		v.Before = strings.TrimSuffix(sentence(v.Before), ".") + ":"
	}
	if p.Alone {
		v.Note = "Seen in these fields alone: in the whole payload another change stops the reader first, or it is too " +
			"large to show."
	}
	return v
}

func shortened(text string) string {
	if len(text) <= mostShown {
		return text
	}
	return strings.ToValidUTF8(text[:mostShown/2], "") + fmt.Sprintf("… (%d bytes)", len(text))
}

// sentence begins with a capital letter, and ends with a stop.
func sentence(text string) string {
	if text = strings.TrimSpace(plainly(text)); text == "" {
		return ""
	}
	if !strings.HasSuffix(text, ".") {
		text += "."
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
