package report

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/shell"
	"faithfulcourier/internal/versions"
)

// Comparison is what a comparison is printed with.
type Comparison struct {
	Old, New string // the references
	Needs    string // the version that the change needs, or ""
	Next     string // the version that the draft is meant to be, or ""
	*compare.Report
}

// meanings say what the verdicts mean.
var meanings = map[verdict.Verdict]string{
	verdict.Breaking:   "an older or newer program fails",
	verdict.Altering:   "all is read, but may mean something else",
	verdict.Compatible: "nothing to do",
}

// legend says what the verdicts of a comparison mean.
func (p *Printer) legend(c Comparison) {
	var parts []string
	for _, v := range []verdict.Verdict{verdict.Breaking, verdict.Altering, verdict.Compatible} {
		if c.Count(v) > 0 {
			parts = append(parts, v.String()+": "+meanings[v])
		}
	}
	p.Sentence("", p.In(Faint, "("+strings.Join(parts, " · ")+")"), 1)
}

var verdictStyle = map[verdict.Verdict]Style{verdict.Breaking: Red, verdict.Altering: Yellow, verdict.Compatible: Green}

// BeyondLast writes what is breaking for the users of an older version, besides what
// the comparison with the last one says.
func (p *Printer) BeyondLast(c Comparison, changes []*compare.Change) {
	p.refs, p.needs = [2]string{c.Old, c.New}, c.Needs
	p.Line("")
	also := "1 more change is breaking"
	if len(changes) > 1 {
		also = fmt.Sprintf("%d more changes are breaking", len(changes))
	}
	p.Line("%s %s", p.In(Bold, c.Old+" → "+c.New+":"), also)
	whole, rows, more := summed(changes)
	for _, f := range whole {
		p.Line("")
		p.aChange(f)
	}
	if n := len(rows) + more; n > 0 {
		p.Line("")
		p.Line("%d more: %s", n, p.In(Bold, "faithful compare --as json"))
	}
}

// Comparison writes a comparison: a summary, then the changes, worst first.
func (p *Printer) Comparison(c Comparison) {
	p.refs, p.needs = [2]string{c.Old, c.New}, c.Needs
	p.Line("%s %s", p.In(Bold, c.Old+" → "+c.New+":"), c.Summary())
	if len(c.Changes) > 0 {
		p.legend(c)
	}
	if c.Needs != "" && len(c.Changes) > 0 {
		why := "."
		if n := c.Undecided(); n > 0 && c.Count(verdict.Breaking) == 0 {
			undecided := "one of the changes is"
			if n > 1 {
				undecided = fmt.Sprintf("%d of the changes are", n)
			}
			why = fmt.Sprintf(": it was not decided whether %s breaking; read what is said there.", undecided)
		}
		p.Sentence("This change needs version ", p.In(Bold, c.Needs)+" or higher"+why+c.meant(), 0)
	}
	if len(c.Changes) > manyChanges {
		p.Line("")
		p.Table("  ", p.overview(c.Changes))
	}
	whole, rows, more := summed(c.Changes)
	for _, f := range whole {
		p.Line("")
		p.aChange(f)
	}
	if len(rows) > 0 {
		var table [][]string
		for _, f := range rows {
			v := f.Verdict()
			table = append(table, []string{p.In(verdictStyle[v], v.String()), string(f.Kind), f.Where, f.FromTo()})
		}
		p.Line("")
		p.Table("", table)
	}
	if more > 0 {
		p.Line("")
		p.Line("%d more are not shown: %s has all of them.", more, p.In(Bold, "faithful compare --as json"))
	}
}

// Allowed tells whether the version that the draft is meant to be allows what breaks.
func (c Comparison) Allowed() bool {
	return c.Next != "" && c.Needs != "" && versions.Check(c.Next, c.Needs) == nil
}

// meant says what version the draft is meant to be.
func (c Comparison) meant() string {
	switch {
	case c.Next == "":
		return ""
	case c.Allowed():
		return fmt.Sprintf(" It is meant to be %s (next in faithful.toml), which allows it.", c.Next)
	}
	return fmt.Sprintf(" It is meant to be %s (next in faithful.toml), which is too low.", c.Next)
}

// mostAlike is how many changes of one kind are read in full: of more, the first few are,
// and the others have a line each, up to mostRows.
const (
	mostAlike = 10
	firstFew  = 3
	mostRows  = 200
)

// summed says which changes are shown in full, which in a line each, and how many not at
// all: what is compatible needs no more than a line.
func summed(changes []*compare.Change) (whole, rows []*compare.Change, more int) {
	type group struct {
		verdict verdict.Verdict
		kind    change.Kind
	}
	counts, shown := map[group]int{}, map[group]int{}
	for _, f := range changes {
		counts[group{f.Verdict(), f.Kind}]++
	}
	for _, f := range changes {
		g := group{f.Verdict(), f.Kind}
		switch shown[g]++; {
		case g.verdict != verdict.Compatible && (counts[g] <= mostAlike || shown[g] <= firstFew) && len(whole) < 4*mostAlike:
			whole = append(whole, f)
		case len(rows) < mostRows:
			rows = append(rows, f)
		default:
			more++
		}
	}
	return whole, rows, more
}

// manyChanges is how many changes are read without an overview.
const manyChanges = 20

// overview counts changes by verdict and kind, with the modules that they are in.
func (p *Printer) overview(changes []*compare.Change) (rows [][]string) {
	type group struct {
		verdict verdict.Verdict
		kind    change.Kind
	}
	counts, modules, names := map[group]int{}, map[group]map[string]int{}, map[group][]string{}
	var groups []group
	for _, f := range changes {
		g := group{f.Verdict(), f.Kind}
		if counts[g]++; counts[g] == 1 {
			groups = append(groups, g)
			modules[g] = map[string]int{}
		}
		module := f.Module()
		if modules[g][module]++; modules[g][module] == 1 {
			names[g] = append(names[g], module)
		}
	}
	slices.SortStableFunc(groups, func(a, b group) int {
		return cmp.Or(int(b.verdict)-int(a.verdict), counts[b]-counts[a])
	})
	const shown = 3
	for _, g := range groups {
		list := names[g]
		slices.SortStableFunc(list, func(a, b string) int { return modules[g][b] - modules[g][a] })
		var where []string
		for _, name := range list[:min(len(list), shown)] {
			where = append(where, fmt.Sprintf("%s %d", name, modules[g][name]))
		}
		if more := len(list) - shown; more > 0 {
			where = append(where, Plural(more, "module")+" more")
		}
		rows = append(rows, []string{p.In(verdictStyle[g.verdict], g.verdict.String()), strconv.Itoa(counts[g]),
			string(g.kind), strings.Join(where, ", ")})
	}
	return rows
}

func (p *Printer) aChange(f *compare.Change) {
	v := f.Verdict()
	p.Line("%s  %s  %s", p.In(verdictStyle[v], v.String()), string(f.Kind), p.In(Bold, f.Where))
	at := ""
	if f.Place.File != nil && !f.InOld {
		at = "   " + p.In(Faint, Where(f.Place))
	}
	p.Line("        %s%s", f.FromTo(), at)
	if f.Waiver != nil {
		until := ""
		if f.Waiver.Until != "" {
			until = " until " + f.Waiver.Until
		}
		p.Line("    %s", p.In(Yellow, "waived"+until))
		p.text("      ", f.Waiver.Reason)
	}
	for _, group := range verdict.Grouped(f.Effects) {
		p.effects(group)
	}
	p.fix(f)
}

// fix writes how to get the same end without a break: lines to write, as they are.
func (p *Printer) fix(f *compare.Change) {
	switch {
	case f.Fix != nil:
		p.Line("    %s", p.In(Green, "fix"))
		says := f.Fix.Says
		if len(f.Fix.Lines) > 0 {
			says += ":"
		}
		p.text("      ", says)
		for _, line := range f.Fix.Lines {
			p.Line("        %s", p.In(Blue, indented(line)))
		}
	case f.Verdict() == verdict.Breaking && p.needs != "":
		p.Line("    %s", p.In(Green, "fix"))
		p.text("      ", "none was found that keeps what the change is for; if it is meant, it needs version "+p.needs)
	}
}

// indented is change.OneBlank, but for the indent of a line.
func indented(line string) string {
	text := strings.TrimLeft(line, " ")
	return line[:len(line)-len(text)] + change.OneBlank(text)
}

func (p *Printer) effects(group []*verdict.Effect) {
	first := group[0]
	p.Line("    %s", p.In(verdictStyle[first.Verdict], verdict.Title(group)))
	p.text("      ", first.Sentence)
	if first.Verdict != verdict.Breaking {
		p.example(group)
		return
	}
	shown := map[string]bool{}
	for _, e := range group {
		w := e.Proof
		switch {
		case w == nil:
			p.Line("      no proof found in %s", e.Covers)
		case len(w.Code) > 0:
			for _, line := range w.Code {
				p.Line("      %s", p.In(Blue, line))
			}
		case !shown[w.JSON]:
			// A payload that proves one encoding need not prove the other.
			shown[w.JSON] = true
			writer, reader := p.sides(e)
			if w.Request != "" && e.Position == verdict.Answer {
				writer, reader = reader, writer // who reads the answer has sent the request
			}
			p.proof(w, writer, reader, e.Position == verdict.Request)
		case !w.Alone && w.Request == "":
			_, reader := p.sides(e)
			p.tryIt("as JSON:", w, reader, e.Position == verdict.Request)
		}
	}
}

// Paragraph writes text after a label, and goes on below itself.
func (p *Printer) Paragraph(label, text string) { p.Sentence(label, text, len(label)) }

// text writes a sentence.
func (p *Printer) text(indent, s string) {
	p.Sentence(indent, strings.Join(strings.Fields(s), " "), len(indent)+2)
}

// example shows by a payload what a change of meaning comes to, where one does.
func (p *Printer) example(group []*verdict.Effect) {
	const short = 200
	for _, e := range group {
		if w := e.Proof; w != nil && w.JSON != "" && len(w.JSON) <= short {
			p.Line("      %s %s", p.In(Faint, "shown by:"), p.In(Blue, w.JSON))
			p.Line("      %s %s", w.Reader, w.Outcome)
			return
		}
	}
}

// copied is how long a payload may be that is printed whole: nobody reads or copies
// pages. Longer ones are whole in --as json.
const copied = 2000

// MockAddress is where a mock serves unless it is told otherwise.
const MockAddress = "127.0.0.1:7150"

// exchange writes a request that proves a break, with the commands that send it again.
func (p *Printer) exchange(w *verdict.Proof, writer, reader string) {
	p.Line("      %s %s sends %s", p.In(Faint, "proof:"), w.Writer, p.In(Blue, w.Request))
	p.Line("      %s %s", w.Reader, p.In(Bold, w.Outcome))
	if writer == "" || len(w.JSON) > copied {
		return
	}
	line := fmt.Sprintf("faithful call http://%s %s --of %s --anyway", MockAddress, w.Message, shell.Word(writer))
	switch {
	case w.JSON != "":
		line += " -d " + shell.Quoted(w.JSON)
	case w.Head != "":
		line += " --head " + shell.Quoted(w.Head) + " -d ''"
	}
	for _, name := range w.Credentials {
		line += " --credential " + shell.Word(name+"=stand:in")
	}
	p.Line("      %s faithful mock --of %s", p.In(Faint, "try it:"), shell.Word(reader))
	p.Line("      %s %s", p.In(Faint, "   and:"), line)
}

// proof writes a payload that proves a break, with the command that reads it as
// the reader does, whose definitions are ref.
func (p *Printer) proof(w *verdict.Proof, writer, ref string, checked bool) {
	switch {
	case w.Request != "":
		p.exchange(w, writer, ref)
		return
	case w.Answer != "":
		p.answered(w)
		return
	case w.JSON == "":
		p.Line("      %s %s", w.Reader, p.In(Bold, w.Outcome))
		return
	}
	as := ""
	if w.Encoding == "json" {
		as = " as JSON"
	}
	p.Line("      %s %s writes a %s%s", p.In(Faint, "proof:"), w.Writer, w.Message, as)
	shown := w.JSON
	if len(shown) > copied {
		shown = strings.ToValidUTF8(shown[:copied/2], "") + fmt.Sprintf("… (%d bytes)", len(w.JSON))
	}
	for _, line := range wrap(shown, 90) {
		p.Line("        %s", p.In(Blue, line))
	}
	if w.Encoding == "binary" {
		p.Line("        %s", p.In(Faint, hexLine(w.Binary)))
	}
	p.Line("      %s %s", w.Reader, p.In(Bold, w.Outcome))
	if w.Alone {
		p.Line("      %s", p.In(Faint, "seen in these fields alone: in the whole payload another change stops the "+
			"reader first, or it is too large to print"))
		return
	}
	p.tryIt("try it:", w, ref, checked)
}

// answered writes an answer that proves a break: how it began, and what it says in all.
func (p *Printer) answered(w *verdict.Proof) {
	p.Line("      %s %s answers %s with %s", p.In(Faint, "proof:"), w.Writer, w.Message, p.In(Blue, w.Answer))
	if w.JSON != "" && len(w.JSON) <= copied {
		for i, line := range wrap(w.JSON, 90) {
			label := map[bool]string{true: "which is", false: "        "}[i == 0]
			p.Line("        %s %s", p.In(Faint, label), p.In(Blue, line))
		}
	}
	p.Line("      %s %s", w.Reader, p.In(Bold, w.Outcome))
}

// sides are what the two sides of an effect are called: the writer's first.
func (p *Printer) sides(e *verdict.Effect) (writer, reader string) {
	if e.NewReads {
		return p.refs[0], p.refs[1]
	}
	return p.refs[1], p.refs[0]
}

// tryIt writes the command that reads a payload as the reader does, whose definitions are
// ref; checked asks for bounds, too.
func (p *Printer) tryIt(label string, w *verdict.Proof, ref string, checked bool) {
	digits := hex.EncodeToString(w.Binary)
	line, check := "", ""
	if checked {
		check = " --check" // what is not a request is not held against bounds
	}
	switch {
	case ref == "" || w.ReadAs == "":
	case w.Encoding == "binary" && len(digits) <= copied:
		line = fmt.Sprintf("faithful from-cbor %s --of %s%s -d %s", w.ReadAs, shell.Word(ref), check, digits)
	case w.Encoding == "json" && len(w.JSON) <= copied:
		line = fmt.Sprintf("faithful to-cbor %s --of %s%s --hex -d %s", w.ReadAs, shell.Word(ref), check,
			shell.Quoted(w.JSON))
	default:
		p.Line("      %s", p.In(Faint, "the payload is long: faithful compare --as json has it whole"))
	}
	const wide = 120
	switch {
	case line == "":
	case len(line) > wide:
		p.Line("      %s", p.In(Faint, label+" "+line))
	default:
		p.Line("      %s %s", p.In(Faint, label), line)
	}
}

// hexLine writes bytes for people, the first of them.
func hexLine(b []byte) string {
	const shown = 28
	text := hex.EncodeToString(b[:min(len(b), shown)])
	var pairs []string
	for i := 0; i < len(text); i += 2 {
		pairs = append(pairs, text[i:i+2])
	}
	line := strings.Join(pairs, " ")
	if len(b) > shown {
		line += fmt.Sprintf(" … (%d bytes)", len(b))
	}
	return line
}

// wrap breaks text that has no blanks after commas.
func wrap(s string, width int) []string {
	var lines []string
	for len([]rune(s)) > width {
		cut := strings.LastIndex(string([]rune(s)[:width]), ",")
		if cut <= 0 {
			cut = len(string([]rune(s)[:width])) - 1
		}
		lines = append(lines, s[:cut+1])
		s = s[cut+1:]
	}
	return append(lines, s)
}

type changeJSON struct {
	Change  string `json:"change"`
	Where   string `json:"where"`
	Old     string `json:"old,omitempty"`
	New     string `json:"new,omitempty"`
	How     string `json:"how,omitempty"`
	Verdict string `json:"verdict"`
	Waived  string `json:"waived,omitempty"` // the reason
	Place
	Effects []effectJSON `json:"effects"`
	Fix     *fixJSON     `json:"fix,omitempty"`
}

type fixJSON struct {
	Says  string   `json:"says"`
	Lines []string `json:"lines,omitempty"`
}

type effectJSON struct {
	Covers    string     `json:"covers"` // what of the promise: binary, json, http or a language
	Position  string     `json:"position"`
	Who       string     `json:"who,omitempty"` // of code: users, callers or implementers
	Direction string     `json:"direction"`
	Calls     []string   `json:"calls,omitempty"`
	Verdict   string     `json:"verdict"`
	Sentence  string     `json:"sentence"`
	Proof     *proofJSON `json:"proof,omitempty"`
}

type proofJSON struct {
	Message string   `json:"message,omitempty"`
	Writer  string   `json:"writer,omitempty"`
	Reader  string   `json:"reader,omitempty"`
	JSON    string   `json:"json,omitempty"`
	Binary  string   `json:"binary,omitempty"` // hexadecimal
	Outcome string   `json:"outcome,omitempty"`
	Code    []string `json:"code,omitempty"`
	Request string   `json:"request,omitempty"` // of HTTP: method and target
	Head    string   `json:"head,omitempty"`    // of HTTP: what was sent before a stream
	Answer  string   `json:"answer,omitempty"`  // of HTTP: how the answer began
	Alone   bool     `json:"alone,omitempty"`   // other changes were undone, which hide it
}

// ComparisonJSON turns a comparison into what JSON has.
func ComparisonJSON(c Comparison) map[string]any {
	worst := verdict.Compatible
	changes := []changeJSON{}
	for _, f := range c.Changes {
		worst = max(worst, f.Verdict())
		j := changeJSON{Change: string(f.Kind), Where: f.Where, Old: f.Old, New: f.New, How: f.How,
			Verdict: f.Verdict().String(), Place: placeJSON(f.Place), Effects: []effectJSON{}}
		if f.Fix != nil {
			j.Fix = &fixJSON{f.Fix.Says, f.Fix.Lines}
		}
		for _, e := range f.Effects {
			j.Effects = append(j.Effects, effect(e))
		}
		if f.Waiver != nil {
			j.Waived = f.Waiver.Reason
		}
		changes = append(changes, j)
	}
	return map[string]any{
		"old": c.Old, "new": c.New, "verdict": worst.String(), "needs": c.Needs, "changes": changes,
		"counts": map[string]int{"breaking": c.Count(verdict.Breaking), "waived": c.Count(verdict.Breaking) - c.Unwaived(),
			"altering": c.Count(verdict.Altering), "compatible": c.Count(verdict.Compatible)},
	}
}

func effect(e *verdict.Effect) effectJSON {
	j := effectJSON{Covers: e.Covers, Position: string(e.Position), Who: e.Who, Direction: "old-reads-new",
		Calls: e.Calls, Verdict: e.Verdict.String(), Sentence: e.Sentence}
	if e.NewReads {
		j.Direction = "new-reads-old"
	}
	if w := e.Proof; w != nil {
		j.Proof = &proofJSON{Message: w.Message, Writer: w.Writer, Reader: w.Reader, JSON: w.JSON,
			Binary: hex.EncodeToString(w.Binary), Outcome: w.Outcome, Code: w.Code, Request: w.Request,
			Head: w.Head, Answer: w.Answer, Alone: w.Alone}
	}
	return j
}
