package command

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/files"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/release"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/versions"
)

// firstVersion is sealed first when no version is given.
const firstVersion = "1.0.0"

var sealCommand = &command{
	name:     "seal",
	synopsis: "[VERSION] [-m, --note NOTE] [--key FILE] [--dry] [--as KIND]",
	short:    "records the working definitions as an immutable version",
	long: `Records the working definitions as an immutable version: writes their canonical
text to versions/VERSION, and adds a line to versions/ledger.jsonl. It does both or
nothing. Without VERSION it takes next of faithful.toml, or else the version that
the changes since the latest release need; a lower one is refused. For a breaking
change, say the version: here, or as next. A pre-release such as 2.0.0-rc.1 is
sealed like any other version, and is never latest. If nothing changed, nothing is
sealed. --key signs the line with an ed25519 key of OpenSSH, which faithful history
--audit checks. If faithful.toml names signers, every version must be signed by one
of them.`,
	examples: [2]string{"faithful seal -m \"first public version\"", "faithful seal 2.0.0"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		note := flags.String("note", "", "a `NOTE` for the ledger")
		letter(flags, "m", "note")
		key := flags.String("key", "", "sign with the private ed25519 key in `FILE`, which ssh-keygen wrote")
		dry := flags.Bool("dry", false, "write nothing, say what would be sealed; exit 1 if that is anything")
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			if len(args) > 1 {
				return trouble, usage("one version at a time")
			}
			version := ""
			if len(args) == 1 {
				version = args[0]
			}
			if *dry {
				return seal(w, nil, *kind, version, *note, *key)
			}
			return w.writing("seal", w.Dir, func(lock *files.Lock) (int,
				error) {
				return seal(w, lock, *kind, version, *note, *key)
			})
		}
	},
}

// seal seals a version while it holds the lock; without one it only says what it would do.
func seal(w *World, lock *files.Lock, kind, version, note, key string) (int, error) {
	dry := lock == nil
	p, defs, err := draft(w, kind)
	if err != nil {
		return trouble, err
	}
	ledger, err := p.Ledger()
	if err != nil {
		return trouble, err
	}
	signer, err := signer(w, p, key)
	if err != nil {
		return trouble, err
	}
	list := canonicalFiles(defs)
	entry := versions.Entry{Version: version, Digest: defs.Digest(), Verdict: "first", Note: note,
		Promise: promiseSealed(p)}
	needed, summary := "", "the first version"
	if latest := ledger.Latest(); latest != nil {
		entry.Follows = latest.Version
		same, c, err := sinceLatest(p, ledger, latest, defs, list)
		if err != nil {
			return trouble, err
		}
		if same {
			return unchanged(w, kind, latest)
		}
		if p.Config.Promise.ComparedWith == "every" {
			older, _, err := release.EveryOlder(sealedStore{ledger}, c.Report, defs, promiseOf(p), release.Waived{})
			if err != nil {
				return trouble, err
			}
			if c.Needs, err = release.Needs(latest.Version, c.Report, older); err != nil {
				return trouble, err
			}
		}
		entry.Verdict, needed, summary = release.Verdict(c.Report), c.Needs, c.Summary()
	}
	if entry.Version, err = nextVersion(p, ledger, version, needed, entry.Verdict); err != nil {
		return refused(w, kind, needed, summary, err)
	}
	if ledger.Find(entry.Version) != nil {
		return trouble, fmt.Errorf("version %s is already sealed, and versions don't change", entry.Version)
	}
	sealed := &entry
	status := fine
	if dry {
		status = found
	} else {
		removed, err := ledger.Seal(lock, entry, list, w.Now(), signer)
		for _, name := range removed {
			fmt.Fprintf(w.Err, "faithful seal: removed %s, which a seal that was interrupted had left\n", name)
		}
		if err != nil {
			return trouble, err
		}
		sealed = ledger.Find(entry.Version)
	}
	if kind == "json" {
		return status, report.New(w.Out, report.Plain).JSON(map[string]any{"sealed": !dry, "version": sealed.Version,
			"digest": sealed.Digest, "verdict": sealed.Verdict, "note": sealed.Note})
	}
	out := report.New(w.Out, w.Look)
	word := "sealed"
	if dry {
		word = "would seal"
	}
	by := ""
	if sealed.Signer != "" {
		by = ", signed by " + sealed.Signer
	}
	out.Line("%s %s (%s), digest %s%s", out.In(report.Green, word), out.In(report.Bold, sealed.Version), summary,
		sealed.Digest[:12], by)
	return status, nil
}

// nextVersion is the version that is sealed: the one that was asked for, or what
// faithful.toml says comes next, or what the changes need. What breaks has its version
// said by a person. The error says why it is none.
func nextVersion(p *project.Project, ledger *versions.Ledger, asked, needed, verdict string) (string, error) {
	version := cmp.Or(asked, p.Config.Next)
	switch {
	case asked == "" && version != "" && ledger.Find(version) != nil:
		return "", fmt.Errorf("faithful.toml says that %s comes next, and it is sealed: raise next, or remove it", version)
	case version != "":
	case needed == "":
		version = firstVersion
	case verdict == "breaking":
		return "", fmt.Errorf("the change is breaking, so say which version it is meant to be: faithful seal %s", needed)
	default:
		version = needed
	}
	if err := versions.Check(version, needed); err != nil {
		return "", err
	}
	if line := p.Config.Line; !versions.InLine(version, line) {
		return "", fmt.Errorf("%s is not in the line %s, which this branch maintains by faithful.toml", version, line)
	}
	return version, nil
}

// signer reads the key that a version is signed with; nil for none, where the
// project asks for none.
func signer(w *World, p *project.Project, file string) (*versions.Signer, error) {
	trusted, err := p.TrustedSigners()
	if err != nil {
		return nil, err
	}
	if file == "" {
		if len(trusted) > 0 {
			return nil, usage("faithful.toml names signers, so versions are signed: add --key FILE, with the private key " +
				"of one of them")
		}
		return nil, nil
	}
	text, err := os.ReadFile(w.path(file))
	if err != nil {
		return nil, err
	}
	s, err := versions.ReadSigner(text, nil)
	if errors.Is(err, versions.ErrLocked) {
		var passphrase []byte
		if passphrase, err = w.secret(fmt.Sprintf("Passphrase of %s: ", file)); err == nil {
			s, err = versions.ReadSigner(text, passphrase)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if len(trusted) > 0 && !slices.Contains(trusted, s.Public()) {
		return nil, fmt.Errorf("%s is the key %s, which is not among the signers of faithful.toml", file, s.Public())
	}
	return s, nil
}

// refused says why a version is not sealed: that is something found, not
// wrong usage.
func refused(w *World, kind, needed, summary string, why error) (int, error) {
	out := report.New(w.Out, w.Look)
	if kind == "json" {
		return found, out.JSON(map[string]any{"sealed": false, "refused": why.Error(), "needs": needed})
	}
	out.Line("%s %s", out.In(report.Red, "not sealed:"), why)
	if needed != "" {
		out.Line("       since the last version: %s; faithful compare shows it", summary)
	}
	return found, nil
}

func canonicalFiles(defs *schema.Definitions) []versions.File {
	var files []versions.File
	for _, m := range defs.Modules {
		files = append(files, versions.File{Name: m.Name + ".faithful", Text: m.Canonical()})
	}
	return files
}

// sinceLatest compares the working definitions with the latest version; same
// says that not even documentation differs.
func sinceLatest(p *project.Project, ledger *versions.Ledger, latest *versions.Entry, defs *schema.Definitions,
	files []versions.File) (same bool, c report.Comparison, err error) {
	before, err := ledger.Read(latest)
	if err != nil {
		return false, c, err
	}
	if slices.Equal(before, files) {
		return true, c, nil
	}
	old, err := sealedStore{ledger}.Definitions(latest.Version)
	if err != nil {
		return false, c, err
	}
	c.Report = compare.Compare(old, defs, promiseOf(p))
	c.Needs, err = release.Needs(latest.Version, c.Report, nil)
	return false, c, err
}

// promiseSealed is the promise of a project as a line of the ledger has it.
func promiseSealed(p *project.Project) *versions.Promise {
	c := p.Config.Promise
	return &versions.Promise{Rollout: c.Rollout, Stored: c.Stored, Covers: c.Covers, Languages: c.Languages}
}

func unchanged(w *World, kind string, latest *versions.Entry) (int, error) {
	out := report.New(w.Out, w.Look)
	if kind == "json" {
		return fine, out.JSON(map[string]any{"sealed": false, "version": latest.Version, "digest": latest.Digest,
			"verdict": "compatible", "note": ""})
	}
	out.Line("nothing changed since %s: nothing to seal", latest.Version)
	return fine, nil
}
