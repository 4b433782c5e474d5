package project

import (
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// Beside is the project with the outputs that stubs of a reference go to. Those of a
// sealed version lie next to those of the draft: their folders and packages end in
// it, as in gen_1_4_0. within is how a language imports a folder that lies in a package.
func (p *Project) Beside(ref string, within func(language, packageName, folder string) string) (*Project, error) {
	version, err := VersionOf(p.Dir, ref)
	if err != nil || !isVersion(version) {
		return p, err
	}
	suffix := "_" + strings.NewReplacer(".", "_", "-", "_").Replace(version)
	folder := func(into string) string {
		if into = path.Clean(filepath.ToSlash(into)); into == "." {
			return "stubs" + suffix
		}
		return into + suffix
	}
	beside := *p
	beside.Config.Stubs = slices.Clone(p.Config.Stubs)
	for i := range beside.Config.Stubs {
		o := &beside.Config.Stubs[i]
		switch {
		case o.Package == "":
		case path.Clean(filepath.ToSlash(o.Into)) == ".":
			o.Package = within(o.Language, o.Package, "stubs"+suffix)
		default:
			o.Package += suffix
		}
		o.Into = folder(o.Into)
		if o.Types != "" {
			o.Types = folder(o.Types)
		}
	}
	return &beside, nil
}
