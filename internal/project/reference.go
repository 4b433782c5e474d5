package project

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

// LoadFrom is Load, of running servers too: their base is a reference.
func LoadFrom(ctx context.Context, dir, ref string, access Access) (*schema.Definitions, []source.Finding, error) {
	if !IsURL(ref) {
		return Load(dir, ref)
	}
	served, err := Fetch(ctx, ref, access)
	if err != nil {
		return nil, nil, err
	}
	defs, findings := check.Load(served.Files)
	return defs, findings, nil
}

// Load loads the definitions that a reference names, as seen from a folder:
// draft, latest, a sealed version, rev: and a git revision, a folder or a file.
func Load(dir, ref string) (*schema.Definitions, []source.Finding, error) {
	switch {
	case strings.HasPrefix(ref, "rev:"):
		files, err := Revision(context.Background(), dir, strings.TrimPrefix(ref, "rev:"))
		if err != nil {
			return nil, nil, err
		}
		defs, findings := check.Load(files)
		return defs, findings, nil
	case IsURL(ref):
		return nil, nil, fmt.Errorf("definitions of a server can't be changed or watched here; what is meant is a " +
			"project, a folder or a file")
	case ref == "draft":
		p, err := Open(dir)
		if err != nil {
			return nil, nil, err
		}
		return p.Definitions()
	}
	if ref != "latest" && !isVersion(ref) {
		files, err := pathFiles(dir, ref)
		if err != nil {
			return nil, nil, err
		}
		defs, findings := check.Load(files)
		return defs, findings, nil
	}
	p, err := Open(dir)
	if err != nil {
		return nil, nil, err
	}
	ledger, err := p.Ledger()
	if err != nil {
		return nil, nil, err
	}
	entry := SealedAs(ledger, ref)
	if entry == nil {
		return nil, nil, ledger.Missing(ref)
	}
	return Sealed(ledger, entry)
}

// SealedAs is the sealed version that a reference means: latest, a version, or the line
// of which it is the newest release, such as 1 or 1.4; nil for none.
func SealedAs(ledger *versions.Ledger, ref string) *versions.Entry {
	switch {
	case ref == "latest":
		return ledger.Latest()
	case versions.IsLine(ref):
		return ledger.Newest(ref)
	}
	return ledger.Find(ref)
}

// VersionOf is what the definitions that a reference names call themselves: a
// version's number for latest and for lines, else the reference itself.
func VersionOf(dir, ref string) (string, error) {
	if ref != "latest" && !versions.IsLine(ref) {
		return ref, nil
	}
	p, err := Open(dir)
	if err != nil {
		return "", err
	}
	ledger, err := p.Ledger()
	if err != nil {
		return "", err
	}
	entry := SealedAs(ledger, ref)
	if entry == nil {
		return "", ledger.Missing(ref)
	}
	return entry.Version, nil
}

// Sealed loads a sealed version.
func Sealed(ledger *versions.Ledger, entry *versions.Entry) (*schema.Definitions, []source.Finding, error) {
	files, err := ledger.Read(entry)
	if err != nil {
		return nil, nil, err
	}
	var sources []*source.File
	for _, f := range files {
		sources = append(sources, source.NewFile(versions.Folder+"/"+entry.Version+"/"+f.Name, f.Text))
	}
	defs, findings := check.Load(sources)
	return defs, findings, nil
}

// isVersion tells references to sealed versions.
func isVersion(ref string) bool { return versions.IsLine(ref) || versions.Check(ref, "") == nil }

// Files reads the files that a reference names and a person may edit: draft, a
// folder or a file.
func Files(dir, ref string) ([]*source.File, error) {
	switch {
	case ref == "draft":
		p, err := Open(dir)
		if err != nil {
			return nil, err
		}
		return p.Files()
	case ref == "latest" || isVersion(ref):
		return nil, fmt.Errorf("%s is sealed, and never changes", ref)
	case strings.HasPrefix(ref, "rev:"):
		return nil, fmt.Errorf("%s is history, and never changes", ref)
	case IsURL(ref):
		return nil, fmt.Errorf("%s is a server: its definitions are not edited here", ref)
	}
	return pathFiles(dir, ref)
}

// pathFiles reads a project's folder, a plain folder of definitions, or a file.
func pathFiles(dir, ref string) ([]*source.File, error) {
	path := filepath.Join(dir, ref)
	if filepath.IsAbs(ref) {
		path = ref
	}
	info, err := os.Stat(path)
	if err != nil {
		message := fmt.Sprintf("%q is neither draft, latest or a version, nor a file or folder", ref)
		if !strings.ContainsAny(ref, "/.") && isRevision(dir, ref) {
			message += "; for the git revision write rev:" + ref
		}
		return nil, errors.New(message)
	}
	if info.IsDir() {
		if _, err := os.Stat(filepath.Join(path, ConfigName)); err == nil {
			return Files(path, "draft")
		}
	}
	paths, err := find(path, filepath.Join(path, versions.Folder))
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		paths = []string{path} // whatever it is called
	}
	if len(paths) == 0 {
		return nil, fmt.Errorf("there is no definition file (*.faithful) in %s", ref)
	}
	var files []*source.File
	for _, path := range paths {
		f, err := readFile(path)
		if err != nil {
			return nil, err
		}
		files = append(files, f)
	}
	return files, nil
}
