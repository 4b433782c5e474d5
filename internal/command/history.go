package command

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/release"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

var historyCommand = &command{
	name:     "history",
	synopsis: "[VERSION] [--changelog] [--audit] [--as KIND]",
	short:    "lists the sealed versions, and what each changed",
	long: `Lists the sealed versions with their dates, and what each changed; with VERSION,
all changes of that one. --changelog prints Markdown, newest first, and includes
the notes that you write in versions/notes/VERSION.md. --audit hashes everything
again. It finds every line and file that was changed, removed, added or moved since
it was sealed, and every signature that does not fit; it exits 1 if there is any.`,
	examples: [2]string{"faithful history", "faithful history --audit"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		changelog := flags.Bool("changelog", false, "print Markdown")
		audit := flags.Bool("audit", false, "hash everything again, and report what is not as it was sealed")
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			if len(args) > 1 || *audit && (*changelog || len(args) > 0) || *changelog && *kind != "text" {
				return trouble, usage("one VERSION, --changelog or --audit")
			}
			p, err := openProject(w.Dir)
			if err != nil {
				return trouble, err
			}
			if *audit {
				return auditVersions(w, p, *kind)
			}
			ledger, err := p.Ledger()
			if err != nil {
				return trouble, err
			}
			if len(ledger.Entries) == 0 {
				return trouble, fmt.Errorf("no version is sealed yet; seal the first with: faithful seal")
			}
			h := &history{p: p, ledger: ledger}
			if len(args) == 1 {
				return h.one(w, *kind, args[0], *changelog)
			}
			if *changelog {
				return h.changelog(w, ledger.Entries)
			}
			return h.list(w, *kind)
		}
	},
}

// history compares each version with the one before it.
type history struct {
	p      *project.Project
	ledger *versions.Ledger
	loaded map[string]*schema.Definitions
}

func (h *history) load(e *versions.Entry) (*schema.Definitions, error) {
	if defs := h.loaded[e.Version]; defs != nil {
		return defs, nil
	}
	defs, findings, err := project.Sealed(h.ledger, e)
	if err != nil {
		return nil, err
	}
	if source.Errors(findings) > 0 {
		return nil, release.Unreadable(e.Version, findings[0].Message)
	}
	return defs, nil
}

// step is what a version changed; the first one has none.
func (h *history) step(e *versions.Entry) (c report.Comparison, err error) {
	c.New = e.Version
	before := h.ledger.Followed(e)
	if before == nil {
		c.Report = &compare.Report{}
		return c, nil
	}
	c.Old = before.Version
	old, err := h.load(before)
	if err != nil {
		return c, err
	}
	new, err := h.load(e)
	if err != nil {
		return c, err
	}
	h.loaded = map[string]*schema.Definitions{before.Version: old,
		e.Version: new} // a step next to this one wants one of them
	c.Report = compare.Compare(old, new, promiseOf(h.p))
	return c, nil
}

func (h *history) list(w *World, kind string) (int, error) {
	type line struct {
		versions.Entry
		Changes string `json:"changes"`
	}
	var lines []line
	for i, e := range h.ledger.Entries {
		c, err := h.step(&h.ledger.Entries[i])
		if err != nil {
			return trouble, err
		}
		summary := "the first version"
		if c.Old != "" {
			summary = c.Summary()
		}
		lines = append(lines, line{e, summary})
	}
	if kind == "json" {
		return fine, report.New(w.Out, report.Plain).JSON(map[string]any{"versions": lines})
	}
	buffered(w, func(p *report.Printer) {
		var rows [][]string
		for _, l := range lines {
			style := map[string]report.Style{"breaking": report.Red, "altering": report.Yellow}[l.Verdict]
			rows = append(rows, []string{p.In(report.Bold, l.Version), l.Time.Format("2006-01-02"), p.In(style, l.Changes),
				p.In(report.Faint, strings.Join(strings.Fields(l.Note), " "))})
		}
		p.Table("", rows)
	})
	return fine, nil
}

// one shows one version.
func (h *history) one(w *World, kind, version string, changelog bool) (int, error) {
	for i := range h.ledger.Entries {
		e := &h.ledger.Entries[i]
		if e.Version != version {
			continue
		}
		if changelog {
			return h.changelog(w, h.ledger.Entries[i:i+1])
		}
		c, err := h.step(&h.ledger.Entries[i])
		if err != nil {
			return trouble, err
		}
		if kind == "json" {
			return fine, report.New(w.Out, report.Plain).JSON(map[string]any{"version": e,
				"comparison": report.ComparisonJSON(c)})
		}
		buffered(w, func(p *report.Printer) {
			p.Line("%s, sealed on %s, digest %s", p.In(report.Bold, e.Version), e.Time.Format("2006-01-02"),
				e.Digest[:min(12, len(e.Digest))])
			if e.Note != "" {
				p.Line("%s", e.Note)
			}
			if i == 0 {
				p.Line("It is the first version; faithful show --of %s shows it.", e.Version)
				return
			}
			p.Line("")
			p.Comparison(c)
		})
		return fine, nil
	}
	return trouble, h.ledger.Missing(version)
}

// changelog prints versions as Markdown, newest first.
func (h *history) changelog(w *World, entries []versions.Entry) (int, error) {
	var b strings.Builder
	b.WriteString("# Changelog\n")
	for i := len(h.ledger.Entries) - 1; i >= 0; i-- {
		e := h.ledger.Entries[i]
		if e.Version != entries[0].Version && len(entries) == 1 {
			continue
		}
		c, err := h.step(&h.ledger.Entries[i])
		if err != nil {
			return trouble, err
		}
		fmt.Fprintf(&b, "\n## %s, sealed %s\n", e.Version, e.Time.Format("2006-01-02"))
		notes, err := h.notes(&e)
		if err != nil {
			return trouble, err
		}
		for _, text := range notes {
			fmt.Fprintf(&b, "\n%s\n", text)
		}
		b.WriteString(report.ComparisonList(c))
	}
	report.New(w.Out, report.Plain).Text(b.String())
	return fine, nil
}

// notes are what somebody wrote of a version, when it was sealed and in versions/notes: Markdown.
func (h *history) notes(e *versions.Entry) (list []string, err error) {
	note, err := versions.Note(h.p.Dir, e.Version)
	for _, text := range []string{e.Note, note} {
		if text != "" {
			list = append(list, text)
		}
	}
	return list, err
}

// auditVersions hashes everything again.
func auditVersions(w *World, p *project.Project, kind string) (int, error) {
	trusted, err := p.TrustedSigners()
	if err != nil {
		return trouble, err
	}
	auditor := versions.Auditor{Trusted: trusted, Load: loadSealed, Now: w.Now(),
		Judge: func(old, new any, promise *versions.Promise) (string, versions.Size, error) {
			by := promiseOf(p)
			if promise != nil {
				named, err := languagesNamed(promise.Languages)
				if err != nil {
					return "", 0, err
				}
				by = compare.Promise{Rollout: promise.Rollout, Stored: promise.Stored, Covers: promise.Covers, Languages: named}
			}
			r := compare.Compare(old.(*schema.Definitions), new.(*schema.Definitions), by)
			return release.Verdict(r), versions.Size(r.Size()), nil
		}}
	r, err := auditor.Audit(p.Dir)
	if err != nil {
		return trouble, err
	}
	beside(r, p.Dir, p.KnownElsewhere(w.Context))
	status := fine
	if len(r.Flaws) > 0 {
		status = found
	}
	if kind == "json" {
		return status, report.New(w.Out, report.Plain).JSON(map[string]any{"versions": r.Versions, "last_line": r.LastLine,
			"flaws": append([]versions.Flaw{}, r.Flaws...), "remarks": append([]versions.Flaw{}, r.Remarks...)})
	}
	buffered(w, func(out *report.Printer) {
		for _, f := range r.Flaws {
			out.Line("%s %s %s", out.In(report.Bold, whereFlaw(f)), out.In(report.Red, strings.TrimSpace(f.Version)), f.Message)
		}
		if len(r.Flaws) == 0 {
			out.Line("%s: the ledger is a whole chain, and all files and verdicts are as they were sealed",
				report.Plural(r.Versions, "version"))
		} else {
			out.Line("%s in %s", out.In(report.Red, report.Plural(len(r.Flaws), "flaw")), report.Plural(r.Versions, "version"))
		}
		if r.LastLine != "" {
			out.Line("last line: %s", r.LastLine)
		}
		for _, f := range r.Remarks {
			if f.Version == "" {
				out.Sentence(out.In(report.Yellow, "note:")+" ", f.Message, 6)
			} else {
				out.Line("%s %s %s %s", out.In(report.Bold, whereFlaw(f)), out.In(report.Yellow, "note:"), f.Version, f.Message)
			}
		}
	})
	return status, nil
}

// beside holds the ledger against those that others may have: a version of theirs that is
// another one here was dropped, or changed.
func beside(r *versions.Report, dir string, elsewhere []project.Elsewhere) {
	here, err := versions.ReadLines(dir)
	if err != nil {
		return // the audit has said so
	}
	said := map[versions.Line]bool{}
	for _, e := range elsewhere {
		for _, theirs := range e.Lines {
			i := slices.IndexFunc(here, func(l versions.Line) bool { return l.Version == theirs.Version })
			if said[theirs] || i >= 0 && here[i] == theirs {
				continue
			}
			said[theirs] = true
			if i < 0 {
				r.Remarks = append(r.Remarks, versions.Flaw{Version: theirs.Version,
					Message: fmt.Sprintf("%s has it, and it is not here", e.Ref)})
				continue
			}
			r.Flaws = append(r.Flaws, versions.Flaw{Version: theirs.Version,
				Message: fmt.Sprintf("what %s has under this number is another version than the one here", e.Ref)})
		}
	}
}

// whereFlaw is the place of what an audit found.
func whereFlaw(f versions.Flaw) string {
	if f.Line > 0 {
		return fmt.Sprintf("%s/ledger.jsonl:%d:", versions.Folder, f.Line)
	}
	if f.Version != "" {
		return versions.Folder + "/" + f.Version + ":"
	}
	return versions.Folder + ":"
}

// loadSealed reads the definitions of a version for an audit.
func loadSealed(list []versions.File) (any, string, error) {
	var sources []*source.File
	for _, f := range list {
		sources = append(sources, source.NewFile(f.Name, f.Text))
	}
	defs, findings := check.Load(sources)
	if source.Errors(findings) > 0 {
		return nil, "", fmt.Errorf("%s", findings[0].Message)
	}
	return defs, defs.Digest(), nil
}
