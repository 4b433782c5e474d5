// Package project finds a project and reads what it consists of:
// faithful.toml, the definition files, and the definitions that a reference
// names. It is where files are read; it prints nothing.
package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/pelletier/go-toml/v2"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/files"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

// ConfigName is the file that makes a folder a project.
const ConfigName = "faithful.toml"

// configLimit is how large faithful.toml may be, in bytes.
const configLimit = 16 << 20

// Config is what faithful.toml says.
type Config struct {
	Name    string   `toml:"name"`
	Sources []string `toml:"sources"`
	Line    string   `toml:"line"` // of versions that this branch maintains, such as "1" or "1.4"; "" for all
	Next    string   `toml:"next"` // the version that the draft is meant to be; "" for what the changes need
	Stubs   []Output `toml:"stubs"`
	Promise Promise  `toml:"promise"`
	Advice  Advice   `toml:"advice"`
	Waivers []Waiver `toml:"waiver"`
	Signers []string `toml:"signers"` // public ed25519 keys, as OpenSSH writes them, of who may seal
}

// Waiver is one [[waiver]]: a break that the project accepts.
type Waiver struct {
	Change string `toml:"change"`
	Where  string `toml:"where"`
	Reason string `toml:"reason"`
	Until  string `toml:"until"` // a date; "" for ever
}

// Advice is which rules of advice a project does not want.
type Advice struct {
	Off []string `toml:"off"`
}

// Output is one [[stubs]].
type Output struct {
	Language string `toml:"language"`
	Into     string `toml:"into"`
	Package  string `toml:"package"`
	Of       string `toml:"of"` // the sealed version whose stubs they are; "" for the draft

	Roles      []string `toml:"roles"`      // of "types", "client", "server"; all where it is empty
	Types      string   `toml:"types"`      // into of the output whose types are shared, where several have types
	Exhaustive bool     `toml:"exhaustive"` // adds what stops compiling when something is added
	Async      bool     `toml:"async"`      // adds clients for asyncio, in Python
	Target     string   `toml:"target"`     // what runs it, in TypeScript: "browser", or "" for whatever does
	Manual     bool     `toml:"manual"`     // servers answer with the manual, at /-/manual
	Encodings  []string `toml:"encodings"`  // of "cbor" and "json", in TypeScript; both where it is empty
	Servlet    bool     `toml:"servlet"`    // adds servers for servlet containers, in Java
	Jackson    bool     `toml:"jackson"`    // adds a module for Jackson, in Java
}

// Roles are what an output may hold.
var Roles = []string{"types", "client", "server"}

// Has tells whether an output has a role.
func (o *Output) Has(role string) bool { return len(o.Roles) == 0 || slices.Contains(o.Roles, role) }

// Promise is what a project promises those who use its definitions.
type Promise struct {
	Rollout   string   `toml:"rollout"`   // "server-leads", "client-leads" or "unordered"
	Stored    string   `toml:"stored"`    // "each-reads-other", "new-reads-old" or "old-reads-new"
	Covers    []string `toml:"covers"`    // of "binary", "json", "http"
	Languages []string `toml:"languages"` // default: those of the outputs

	ComparedWith string `toml:"compared_with"` // "last" or "every" sealed version
}

// Project is a project on disk.
type Project struct {
	Dir    string // absolute
	Config Config
	file   *source.File // faithful.toml
}

// CheckLanguages refuses languages that are none of those known: of outputs, and in the
// promise, where nothing could be said of them. The error is a *BadConfig.
func (p *Project) CheckLanguages(known []string) error {
	bad := &BadConfig{}
	say := func(language, where string) {
		if language == "" || slices.Contains(known, language) {
			return
		}
		fix := nearestOf(language, known)
		if fix == "" {
			fix = "the languages are: " + strings.Join(known, ", ")
		}
		bad.add(p.file, `"`+language+`"`, fmt.Sprintf("%s names the language %q, which there is not", where, language), fix)
	}
	for _, o := range p.Config.Stubs {
		say(o.Language, "[[stubs]]")
	}
	for _, language := range p.Config.Promise.Languages {
		if !slices.ContainsFunc(p.Config.Stubs, func(o Output) bool { return o.Language == language }) {
			say(language, "[promise]")
		}
	}
	if len(bad.Findings) > 0 {
		return bad
	}
	return nil
}

// Default is a project that faithful.toml says nothing of: its promise is the
// one that everybody makes.
func Default() *Project {
	p := &Project{Config: Config{Name: "default"}}
	p.Config.check(source.NewFile("", ""), &BadConfig{}) // only fills in
	return p
}

// ErrNoProject says that no folder from here upward is a project.
var ErrNoProject = errors.New("there is no faithful.toml here or in a folder above")

// BadConfig is the error of a faithful.toml that can't be used.
type BadConfig struct{ Findings []source.Finding }

// add adds a finding about a value, at its first place in the file.
func (e *BadConfig) add(file *source.File, value, message, fix string) {
	at := source.Place{File: file}
	if i := strings.Index(file.Text, value); value != "" && i >= 0 {
		at.Span = source.Span{Start: uint32(i), End: uint32(i + len(value))}
	}
	e.Findings = append(e.Findings, source.Finding{Name: "bad-value", Place: at, Message: message, Fix: fix})
}

func (e *BadConfig) Error() string { return e.Findings[0].Message }

// Open finds the project that dir belongs to and reads its faithful.toml. The
// error is ErrNoProject, a *BadConfig, or that of a file.
func Open(dir string) (*Project, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	for at := dir; ; at = filepath.Dir(at) {
		text, err := files.ReadRegular(filepath.Join(at, ConfigName), configLimit)
		if err == nil {
			p := &Project{Dir: at}
			return p, p.readConfig(string(text))
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if at == filepath.Dir(at) {
			return nil, ErrNoProject
		}
	}
}

// keys are those of faithful.toml, with the tables that they are in: "stubs.into".
func keys() (list []string) {
	var add func(t reflect.Type, prefix string)
	add = func(t reflect.Type, prefix string) {
		for t.Kind() == reflect.Slice || t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return
		}
		for i := range t.NumField() {
			if key, _, _ := strings.Cut(t.Field(i).Tag.Get("toml"), ","); key != "" && key != "-" {
				list = append(list, prefix+key)
				add(t.Field(i).Type, prefix+key+".")
			}
		}
	}
	add(reflect.TypeFor[Config](), "")
	return list
}

func (p *Project) readConfig(text string) error {
	file := source.NewFile(ConfigName, text)
	p.file = file
	bad := &BadConfig{}
	d := toml.NewDecoder(strings.NewReader(text))
	d.DisallowUnknownFields()
	err := d.Decode(&p.Config)
	var strict *toml.StrictMissingError
	var syntax *toml.DecodeError
	switch {
	case errors.As(err, &strict):
		for i := range strict.Errors {
			e := &strict.Errors[i]
			bad.Findings = append(bad.Findings, unknownKey(file, e))
		}
		return bad
	case errors.As(err, &syntax):
		line, column := syntax.Position()
		at := place(file, line, column, 1)
		if key, needs, example := wrongType(syntax.Error()); key != "" {
			bad.Findings = append(bad.Findings, source.Finding{Name: "bad-value", Place: at,
				Message: fmt.Sprintf("%q is %s", key, needs), Fix: "write, for example: " + key + " = " + example})
			return bad
		}
		bad.Findings = append(bad.Findings, source.Finding{Name: "bad-toml", Place: at,
			Message: strings.TrimPrefix(syntax.Error(), "toml: "), Fix: "faithful.toml is written in TOML"})
		return bad
	case err != nil:
		return err
	}
	p.Config.check(file, bad)
	if len(bad.Findings) > 0 {
		return bad
	}
	return nil
}

// mismatch is how the TOML library says that a value is of another type than its key's.
var mismatch = regexp.MustCompile(`into struct field \w+\.(\w+)\.(\w+) of type (\S+)`)

// wrongType says what a key's value is, where the library's message is of another one.
func wrongType(message string) (key, needs, example string) {
	m := mismatch.FindStringSubmatch(message)
	if m == nil {
		return "", "", ""
	}
	key = m[2]
	for _, t := range []reflect.Type{reflect.TypeFor[Config](), reflect.TypeFor[Output](), reflect.TypeFor[Promise](),
		reflect.TypeFor[Advice](), reflect.TypeFor[Waiver]()} {
		if f, ok := t.FieldByName(m[2]); ok && t.Name() == m[1] {
			key, _, _ = strings.Cut(f.Tag.Get("toml"), ",")
		}
	}
	switch m[3] {
	case "string":
		return key, "a text in quotes", `"…"`
	case "[]string":
		return key, "a list of texts", `["…"]`
	case "bool":
		return key, "true or false", "true"
	}
	return key, "a table", "{ … }"
}

func unknownKey(file *source.File, e *toml.DecodeError) source.Finding {
	key := strings.Join(e.Key(), ".")
	line, column := e.Position()
	last := e.Key()[len(e.Key())-1]
	f := source.Finding{Name: "no-such-key", Place: place(file, line, column, len(last)),
		Message: fmt.Sprintf("faithful.toml has no key %q", key)}
	prefix := strings.TrimSuffix(key, last)
	var siblings []string
	for _, k := range keys() {
		if rest, ok := strings.CutPrefix(k, prefix); ok && !strings.Contains(rest, ".") {
			siblings = append(siblings, rest)
		}
	}
	f.Fix = "the keys here are: " + strings.Join(siblings, ", ")
	if near := source.Nearest(last, siblings); near != "" {
		f.Fix = source.DidYouMean(near)
	}
	return f
}

func nearestOf(word string, words []string) string {
	if near := source.Nearest(word, words); near != "" {
		return source.DidYouMean(near)
	}
	return ""
}

func place(file *source.File, line, column, length int) source.Place {
	offset := 0
	for ; line > 1; line-- {
		offset += strings.IndexByte(file.Text[offset:], '\n') + 1
	}
	offset += column - 1
	return source.Place{File: file, Span: source.Span{Start: uint32(offset),
		End: uint32(min(offset+length, len(file.Text)))}}
}

// check refuses values that mean nothing, and fills in the defaults.
func (c *Config) check(file *source.File, bad *BadConfig) {
	add := func(value, message, fix string) { bad.add(file, value, message, fix) }
	if c.Name == "" {
		add("", "faithful.toml does not say how the project is called", `write, for example: name = "skerry-line"`)
	}
	if len(c.Sources) == 0 {
		c.Sources = []string{"."}
	}
	if c.Line != "" && !versions.IsLine(c.Line) {
		add(`"`+c.Line+`"`, fmt.Sprintf("a line of versions is one number or two, not %q", c.Line),
			`write, for example: line = "1"`)
	}
	if c.Next != "" && versions.Check(c.Next, "") != nil {
		add(`"`+c.Next+`"`, versions.Check(c.Next, "").Error(), "")
	}
	for _, s := range c.Sources {
		if IsURL(s) {
			if err := CheckURL(s); err != nil {
				// Without its line, which would be shown.
				bad.Findings = append(bad.Findings, source.Finding{Name: "bad-value",
					Place: source.Place{File: source.NewFile(ConfigName, "")}, Message: err.Error()})
			}
		}
	}
	for _, o := range c.Stubs {
		if o.Language == "" {
			add("[[stubs]]", "a [[stubs]] needs its language", `write, for example: language = "go"`)
		}
		if o.Into == "" {
			add("[[stubs]]", "a [[stubs]] needs the folder to write into", `write, for example: into = "gen"`)
		}
		if filepath.IsAbs(filepath.FromSlash(o.Into)) || strings.HasPrefix(o.Into, "/") {
			add(`"`+o.Into+`"`, "into is a folder seen from the project's own, not an absolute path",
				`write, for example: into = "gen"`)
		}
		if o.Of != "" && !isVersion(o.Of) {
			add(`"`+o.Of+`"`, fmt.Sprintf("of is a sealed version, not %q", o.Of), `write, for example: of = "1.0.0"`)
		}
		for _, role := range o.Roles {
			if !slices.Contains(Roles, role) {
				add(`"`+role+`"`, fmt.Sprintf("a role is one of %s, not %q", strings.Join(Roles, ", "), role),
					nearestOf(role, Roles))
			}
		}
	}
	one := func(key string, value *string, allowed ...string) {
		if *value == "" {
			*value = allowed[0]
		}
		if !slices.Contains(allowed, *value) {
			add(`"`+*value+`"`, fmt.Sprintf("%s is one of %s, not %q", key, strings.Join(allowed, ", "), *value), "")
		}
	}
	one("promise.rollout", &c.Promise.Rollout, "server-leads", "client-leads", "unordered")
	one("promise.stored", &c.Promise.Stored, "each-reads-other", "new-reads-old", "old-reads-new")
	one("promise.compared_with", &c.Promise.ComparedWith, "last", "every")
	for _, w := range c.Waivers {
		for _, need := range []struct{ key, value, example string }{{"change", w.Change, "field-gone"},
			{"where", w.Where, "skerry.booking.Booking.coupon"}, {"reason", w.Reason, "never filled in since 2025"}} {
			if need.value == "" {
				add("[[waiver]]", "a [[waiver]] needs its "+need.key,
					fmt.Sprintf("write, for example: %s = %q", need.key, need.example))
			}
		}
		if _, err := time.Parse(time.DateOnly, w.Until); w.Until != "" && err != nil {
			add(`"`+w.Until+`"`, "until is a date", `write, for example: until = "2027-03-01"`)
		}
	}
	if c.Promise.Covers == nil {
		c.Promise.Covers = []string{"binary", "json", "http"}
	}
	for _, f := range c.Promise.Covers {
		one("promise.covers", &f, "binary", "json", "http")
	}
	if c.Promise.Languages == nil {
		for _, o := range c.Stubs {
			if !slices.Contains(c.Promise.Languages, o.Language) {
				c.Promise.Languages = append(c.Promise.Languages, o.Language)
			}
		}
	}
}

// WriteBase is the folder below which writing into one that faithful.toml names goes
// through no link: the project's, or what the path climbs to from there.
func (p *Project) WriteBase(into string) string {
	base, into := p.Dir, path.Clean(filepath.ToSlash(into))
	for into == ".." || strings.HasPrefix(into, "../") {
		base, into = filepath.Dir(base), strings.TrimPrefix(strings.TrimPrefix(into, ".."), "/")
	}
	return base
}

// Definitions loads the working files.
func (p *Project) Definitions() (*schema.Definitions, []source.Finding, error) {
	files, err := p.Files()
	if err != nil {
		return nil, nil, err
	}
	defs, findings := check.Load(files)
	return defs, findings, nil
}

// Files reads the definition files, sorted; their names are relative to the
// project. Those of servers come last, from the lock, and lie at no path.
func (p *Project) Files() ([]*source.File, error) {
	var paths []string
	var remote []*source.File
	for _, s := range p.Config.Sources {
		if IsURL(s) {
			l, err := p.readLock()
			if err != nil {
				return nil, err
			}
			files, err := p.locked(l, s)
			if err != nil {
				return nil, err
			}
			remote = append(remote, files...)
			continue
		}
		root := filepath.Join(p.Dir, filepath.FromSlash(s))
		if info, err := os.Lstat(root); err == nil && info.Mode()&fs.ModeSymlink != 0 {
			return nil, fmt.Errorf("faithful.toml names %q as a source, and it is a link: name what it leads to", s)
		}
		found, err := find(root, filepath.Join(p.Dir, versions.Folder))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("faithful.toml names %q as a source, and there is no such file or folder", s)
		}
		if err != nil {
			return nil, err
		}
		paths = append(paths, found...)
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	if len(paths) == 0 && len(remote) == 0 {
		return nil, fmt.Errorf("there is no definition file (*.faithful) in %s", strings.Join(p.Config.Sources, ", "))
	}
	own, err := p.read(paths)
	return append(own, remote...), err
}

// Own lists the files of definitions that a person may edit: not those that are
// kept of servers.
func Own(files []*source.File) []*source.File {
	return slices.DeleteFunc(slices.Clone(files), func(f *source.File) bool { return f.Path() == "" })
}

// find lists the definition files in a folder. Sealed versions are no working
// files, nor is what begins with a dot.
func find(root, sealed string) ([]string, error) {
	var paths []string
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := d.Name()
		if d.IsDir() {
			skip := strings.HasPrefix(name, ".") || name == "node_modules" || path == sealed
			if skip && path != root {
				return fs.SkipDir
			}
			return nil
		}
		if filepath.Ext(name) == ".faithful" && d.Type().IsRegular() {
			paths = append(paths, path)
		}
		return nil
	})
	return paths, err
}

func (p *Project) read(paths []string) ([]*source.File, error) {
	var files []*source.File
	for _, path := range paths {
		f, err := readFile(path)
		if err != nil {
			return nil, err
		}
		if relative, err := filepath.Rel(p.Dir, path); err == nil {
			f.Name = filepath.ToSlash(relative)
		}
		files = append(files, f)
	}
	return files, nil
}

// ReadFile reads one definition file that is named as seen from a folder.
func ReadFile(dir, name string) (*source.File, error) {
	path := name
	if !filepath.IsAbs(path) {
		path = filepath.Join(dir, name)
	}
	f, err := readFile(path)
	if err == nil {
		f.Name = filepath.ToSlash(name)
	}
	return f, err
}

// checkName refuses names of files that would forge what is printed.
func checkName(path string) error {
	if strings.ContainsFunc(path, unicode.IsControl) {
		return fmt.Errorf("the name %q has control characters in it: rename the file", path)
	}
	return nil
}

func readFile(path string) (*source.File, error) {
	if err := checkName(path); err != nil {
		return nil, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > source.MaxFileSize {
		return nil, fmt.Errorf("%s has %d bytes; a definition file has at most %d", path, info.Size(), source.MaxFileSize)
	}
	text, err := files.ReadRegular(path, source.MaxFileSize)
	if err != nil {
		return nil, err
	}
	return source.NewFile(path, string(text)).At(path), nil
}
