// Package release has the rules of versions: what a change since one asks of the next,
// against which versions it is held, and what is said of it when it is sealed. It works
// on any store of versions, and must not know files, ledgers, flags or output.
package release

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/versions"
)

// Store is where versions are kept.
type Store interface {
	// Versions lists the releases that a draft is compared with, lowest first.
	Versions() []string
	// Follows is the version that one was compared with when it was sealed; "" for a first.
	Follows(version string) string
	// Definitions are those of a version.
	Definitions(version string) (*schema.Definitions, error)
}

// Verdict is what a version says of its change since the one before: the worst of it.
func Verdict(r *compare.Report) string {
	for _, v := range []verdict.Verdict{verdict.Breaking, verdict.Altering} {
		if r.Count(v) > 0 {
			return v.String()
		}
	}
	return verdict.Compatible.String()
}

// Needs is the version that a change since another one needs at least (Semantic
// Versioning 2.0.0): a major one where anything breaks, for the users of that version or
// of older ones, waived or not. The error says that the version is none.
func Needs(version string, r *compare.Report, older []*Older) (string, error) {
	size := versions.Size(r.Size())
	if len(older) > 0 {
		size = versions.Major
	}
	return versions.Next(version, size)
}

// Older is what breaks for the users of an older version than the last, and not for
// those of the last.
type Older struct {
	Version string
	Report  *compare.Report // all of the comparison
	Breaks  []*compare.Change
}

// Unwaived tells whether any of it is not accepted.
func (o *Older) Unwaived() bool {
	return slices.ContainsFunc(o.Breaks, func(f *compare.Change) bool { return f.Waiver == nil })
}

// Waived is what waivers are held against: those of a project, those of them that nothing
// matched yet, and the day, as 2006-01-02.
type Waived struct {
	All, Unmatched []compare.Waiver
	Today          string
}

// EveryOlder compares a draft with all versions but the last, newest first; last is the
// comparison with that one. left are the waivers that still match nothing.
func EveryOlder(store Store, last *compare.Report, draft *schema.Definitions, promise compare.Promise,
	waived Waived) (list []*Older, left []compare.Waiver, err error) {
	known := func(f *compare.Change) string { return string(f.Kind) + " " + f.Where }
	said := map[string]bool{}
	for _, f := range last.Changes {
		if f.Verdict() == verdict.Breaking {
			said[known(f)] = true
		}
	}
	left = waived.Unmatched
	names := store.Versions()
	for _, version := range slices.Backward(names[:max(0, len(names)-1)]) {
		old, err := store.Definitions(version)
		if err != nil {
			return nil, nil, err
		}
		o := &Older{Version: version, Report: compare.Across(old, draft, promise, Between(store, version, ""))}
		still, _ := o.Report.Waive(waived.All, waived.Today)
		left = slices.DeleteFunc(left, func(x compare.Waiver) bool { return !slices.Contains(still, x) })
		for _, f := range o.Report.Changes {
			if f.Verdict() == verdict.Breaking && !said[known(f)] { // a waived one, too: it counts for the version
				o.Breaks = append(o.Breaks, f)
				said[known(f)] = true
			}
		}
		if len(o.Breaks) > 0 {
			list = append(list, o)
		}
	}
	return list, left, nil
}

// Between reads the versions that lead from one to another, which is "" for what follows
// the newest release: each follows the one before. It reads none where the second does
// not come after the first. One that can't be read any more tells nothing; an audit says
// why.
func Between(store Store, after, before string) func() []*schema.Definitions {
	return func() (list []*schema.Definitions) {
		at := ""
		if names := store.Versions(); before != "" {
			at = store.Follows(before)
		} else if len(names) > 0 {
			at = names[len(names)-1]
		}
		var names []string
		for ; at != after; at = store.Follows(at) {
			if at == "" {
				return nil
			}
			names = append(names, at)
		}
		for _, name := range slices.Backward(names) {
			if defs, err := store.Definitions(name); err == nil {
				list = append(list, defs)
			}
		}
		return list
	}
}

// Unreadable is the error of a version whose definitions have errors.
func Unreadable(version, why string) error {
	return fmt.Errorf("version %s can no longer be read: %s", version, why)
}
