package project

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	"faithfulcourier/internal/versions"
)

// Elsewhere is a ledger that others may have: at a tag that is called as a version, or
// on a branch of another repository, as this one saw it last.
type Elsewhere struct {
	Ref   string // such as v1.4.0 or origin/main
	Lines []versions.Line
}

// Has tells whether a line is in the ledger.
func (e *Elsewhere) Has(line versions.Line) bool { return slices.Contains(e.Lines, line) }

// mostRefs is how many of a repository's tags and of its remote branches are looked at,
// the newest first.
const mostRefs = 200

// KnownElsewhere reads the ledgers that others may have, by way of the git program; none
// where it is not installed, or the project is in no repository.
func (p *Project) KnownElsewhere(ctx context.Context) (list []Elsewhere) {
	g := git{ctx, p.Dir}
	if _, err := exec.LookPath("git"); err != nil {
		return nil
	}
	var refs []string
	for _, kind := range []string{"refs/tags", "refs/remotes"} {
		names, err := g.run("for-each-ref", "--sort=-creatordate", fmt.Sprintf("--count=%d", mostRefs),
			"--format=%(refname)", kind)
		if err != nil {
			return nil
		}
		refs = append(refs, strings.Fields(string(names))...)
	}
	for _, ref := range refs {
		tag, isTag := strings.CutPrefix(ref, "refs/tags/")
		if isTag && versions.Check(strings.TrimPrefix(tag, "v"), "") != nil {
			continue
		}
		text, err := g.run("cat-file", "blob", ref+":./"+versions.Folder+"/ledger.jsonl")
		if err != nil {
			continue // there was no ledger then
		}
		name := strings.TrimPrefix(strings.TrimPrefix(ref, "refs/tags/"), "refs/remotes/")
		list = append(list, Elsewhere{name, versions.Lines(text)})
	}
	return list
}

// merging says how a ledger in which a merge stopped is put right: what others may have
// is kept, and the other side's versions are sealed again after it. Nothing that is known
// to be published is dropped.
func (p *Project) merging(c *versions.Conflict) error {
	ctx := context.Background()
	known := p.KnownElsewhere(ctx)
	seenAt := func(side []versions.Line) string {
		for _, e := range known {
			if slices.ContainsFunc(side, e.Has) {
				return e.Ref
			}
		}
		return ""
	}
	other := "MERGE_HEAD"
	for _, head := range []string{"MERGE_HEAD", "REBASE_HEAD", "CHERRY_PICK_HEAD"} {
		if _, err := (git{ctx, p.Dir}).run("rev-parse", "--verify", "--quiet", head); err == nil {
			other = head
			break
		}
	}
	keep := func(head string) string {
		return "\n  git restore --source " + head + " --staged --worktree " + versions.Folder + "\n  faithful seal"
	}
	ours, theirs := seenAt(c.Ours), seenAt(c.Theirs)
	switch {
	case ours != "" && theirs != "":
		return fmt.Errorf("%w. Others may have both (%s, %s), and one number can't mean two things: agree whose it is, and "+
			"seal the other one again as a version after it; drop neither before", c, ours, theirs)
	case ours != "":
		return fmt.Errorf("%w. Others may have that of this branch (%s): keep it, and seal what the other one brings after "+
			"it:%s", c, ours, keep("HEAD"))
	case theirs != "":
		return fmt.Errorf("%w. Others may have that of the other branch (%s): keep it, and seal what this one brings after "+
			"it:%s", c, theirs, keep(other))
	}
	return fmt.Errorf("%w. No tag and no remote branch here has either. Keep the one that others may have, and seal the "+
		"other one again after it. For that of the other branch:%s\nFor that of this branch:%s", c, keep(other),
		keep("HEAD"))
}

// Ledger reads the ledger of the project's versions.
func (p *Project) Ledger() (*versions.Ledger, error) {
	ledger, err := versions.Open(p.Dir)
	var conflict *versions.Conflict
	if errors.As(err, &conflict) {
		return nil, p.merging(conflict)
	}
	if err == nil {
		ledger.Line = p.Config.Line
	}
	return ledger, err
}
