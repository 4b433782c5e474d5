package compare

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/java"
	"faithfulcourier/internal/stubs/python"
	"faithfulcourier/internal/stubs/typescript"
	"faithfulcourier/internal/syntax"
	"faithfulcourier/internal/toolchain"
)

const harbour = `module skerry.harbour

const BERTHS int32 = 12

enum Deck {
  #0 unassigned
  #1 open
  #2 car
}

credential desk = bearer

type Berth = int32 where 1..40

type Codes = [text]

type Code = text

type Price = decimal

type Wait = duration

type Ratio = float64

type Blob = bytes

type Counts = {text: int32}

union Way {
  #1 sea  text
  #2 road Money
}

message Money {
  #1 hundredths int64
}

message Booking {
  #1 id     uuid
  #2 seats  int32 = 1
  #3 deck   Deck
  #4 email  text?
  #5 fare   Money
  #6 made   instant
  #7 notes  [text]
  #8 extras {text: Money}
  #9 lanes  uint32
  #10 names [text]?
  #11 berth Berth?
  #12 codes Codes
  #13 way   Way?
  #14 code  Code
  #15 price Price
  #16 wait  Wait
  #17 ratio Ratio
  #18 blob  Blob
  #19 count Counts
  #20 plain_price decimal
  #21 plain_wait  duration
  #22 plain_codes [text]
  #23 plain_blob  bytes
  #24 plain_count {text: int32}
  #25 prices      [Price]
}

message BookRequest {
  #1 booking Booking?
}

message Other {
  #1 booking Booking?
  #2 more    text?
}

message Spare {
  #1 note text?
}

message Upload {
  #1 label text? in query
  #2 photo bytes in body "image/*"
}

message Letter {
  #1 label text? in query
  #2 image bytes
}

message Slip {
  #1 label text? in query
}

message StowAt {
  #1 label text?
}

error Full 409 {
  #1 left int32
}

service Bookings {
  call book(BookRequest) -> Booking
    fails Full
  call find(BookRequest) -> Booking
    safe
  call load(stream Money) -> Other
  call watch(Other) -> stream Money
  call stow(StowAt, stream Money) -> Other
    http POST "/stow"
  call upload(Upload) -> ()
    http POST "/upload"
  call write(Letter) -> ()
    http POST "/write"
  call slip(Slip) -> ()
    http POST "/slip"
}
`

// codeChanges are one change for each kind of change, and some that go together.
var codeChanges = []struct{ old, new string }{
	{"#1 hundredths int64", "#1 hundredths int64 #2 currency text?"},
	{`#2 photo bytes in body "image/*"`, "#2 photo bytes"},
	{`#2 photo bytes in body "image/*"`, `#2 photo bytes in body "*/*"`},
	{`#2 photo bytes in body "image/*"`, `#2 photo Blob in body "image/*"`},
	{`#2 photo bytes in body "image/*"`, `#2 photo bytes where length 1..9 in body "image/*"`},
	{"#2 image bytes", `#2 image bytes in body "image/*"`},
	{"message Slip {", `message Slip { #2 roll bytes in body "*/*"`},
	{"message Slip {", `message Slip { #2 tag text? in header "Tag"`},
	{"#1 hundredths int64", "#1 hundredths int64 #2 currency text = \"SKD\""},
	{"#1 hundredths int64", "#1 hundredths int64 #2 currency text"},
	{"#4 email  text?", ""},
	{"#4 email  text?", "#4 mail text?"},
	{"#4 email  text?", "#40 email text?"},
	{"#4 email  text?", "#4 email text"},
	{"#4 email  text?", "#4 email text = \"\""},
	{"#4 email  text?", "#4 email bytes?"},
	{"#2 seats  int32 = 1", "#2 seats int32 = 2"},
	{"#2 seats  int32 = 1", "#2 seats int32"},
	{"#2 seats  int32 = 1", "#2 seats int32?"},
	{"#2 seats  int32 = 1", "#2 seats uint32 = 1"},
	{"#2 seats  int32 = 1", "#2 seats int64 = 1"},
	{"#2 seats  int32 = 1", "#2 seats float64 = 1"},
	{"#2 seats  int32 = 1", "#2 seats int8 = 1"},
	{"#2 seats  int32 = 1", "#2 seats float32 = 1"},
	{"#9 lanes  uint32", "#9 lanes uint64"},
	{"#9 lanes  uint32", "#9 lanes uint8"},
	{"#1 id     uuid", "#1 id uuid?"},
	{"#1 id     uuid", "#1 id uuid deprecated \"x\""},
	{"message Booking {", "message Booking deprecated \"x\" {"},
	{"call find(BookRequest) -> Booking", "call find(BookRequest) -> Booking deprecated \"x\""},
	{"#2 car", "#2 car deprecated \"x\""},
	{"#1 id     uuid", "#1 id text"},
	{"#1 id     uuid", "#1 i_d uuid"},
	{"#7 notes  [text]", "#7 notes [text]?"},
	{"#7 notes  [text]", "#7 notes [bytes]"},
	{"#7 notes  [text]", "#7 notes {text: text}"},
	{"#10 names [text]?", "#10 names [text]"},
	{"#8 extras {text: Money}", "#8 extras {text: Other}"},
	{"#5 fare   Money", "#5 fare int64"},
	{"#6 made   instant", "#6 made int64"},
	{"#2 car", "#2 car #3 saloon"},
	{"#2 car", ""},
	{"#2 car", "#2 cars"},
	{"#2 car", "#7 car"},
	{"const BERTHS int32 = 12", "const BERTHS int32 = 13"},
	{"const BERTHS int32 = 12", "const BERTHS text = \"12\""},
	{"const BERTHS int32 = 12", ""},
	{"const BERTHS int32 = 12", "const BERTHS int32 = 12\nconst MORE int32 = 1\nmessage Added { }\nenum AddedEnum { #0 a }\nerror AddedError 400 { }\nservice AddedService { }"},
	{"#1 left int32", "#1 left int32 #2 since instant?"},
	{"#1 left int32", "#1 left int32 #2 since instant"},
	{"error Full 409", "error Full 410"},
	{"error Full 409 {\n  #1 left int32\n}", "error Packed 409 {\n  #1 left int32\n}"},
	{"fails Full", "fails Packed"},
	{"    fails Full\n", ""},
	{"    safe\n", ""},
	{"call find(BookRequest) -> Booking", "call find(BookRequest) -> Other"},
	{"call find(BookRequest) -> Booking", "call find(Other) -> Booking"},
	{"call find(BookRequest) -> Booking", "call find() -> Booking"},
	{"call find(BookRequest) -> Booking", "call find(BookRequest) -> ()"},
	{"call find(BookRequest) -> Booking\n    safe\n", ""},
	{"call find(BookRequest) -> Booking", "call more() -> ()\n  call find(BookRequest) -> Booking"},
	{"service Bookings", "service Reservations"},

	{"type Berth = int32 where 1..40", "type Berth = int64 where 1..40"},
	{"type Berth = int32 where 1..40", "type Berth = float64 where 1..40"},
	{"type Berth = int32 where 1..40", "type Berth = text"},
	{"type Berth = int32 where 1..40", "type Berth = int32 where 1..20"},
	{"type Codes = [text]", "type Codes = [bytes]"},
	{"type Codes = [text]", "type Codes = [text]\ntype More = text"},
	{"type Berth = int32 where 1..40", "type Berth = int8"},
	{"type Berth = int32 where 1..40", "type Berth = uint32"},
	{"type Ratio = float64", "type Ratio = int32"},
	{"type Ratio = float64", "type Ratio = float32"},
	{"type Code = text", "type Code = bytes"},
	{"type Blob = bytes", "type Blob = text"},
	{"type Price = decimal", "type Price = text"},
	{"type Wait = duration", "type Wait = instant"},
	{"#14 code  Code", "#14 code text"},
	{"#15 price Price", "#15 price decimal"},
	{"#16 wait  Wait", "#16 wait duration"},
	{"#17 ratio Ratio", "#17 ratio float64"},
	{"#18 blob  Blob", "#18 blob bytes"},
	{"#19 count Counts", "#19 count {text: int32}"},
	{"#12 codes Codes", "#12 codes [text]"},
	{"#20 plain_price decimal", "#20 plain_price Price"},
	{"#21 plain_wait  duration", "#21 plain_wait Wait"},
	{"#22 plain_codes [text]", "#22 plain_codes Codes"},
	{"#23 plain_blob  bytes", "#23 plain_blob Blob"},
	{"#24 plain_count {text: int32}", "#24 plain_count Counts"},
	{"#25 prices      [Price]", "#25 prices [decimal]"},
	{"#11 berth Berth?", "#11 berth int32?"},
	{"#9 lanes  uint32", "#9 lanes Berth"},
	{"  #2 road Money\n", ""},
	{"#2 road Money", "#2 land Money"},
	{"#2 road Money", "#2 road text"},
	{"#2 road Money", "#2 road Money\n  #3 air  text"},
	{"#2 road Money", "#7 road Money"},
	{"#13 way   Way?", ""},
	{"*Other", "Others"},
	{"message Spare {\n  #1 note text?\n}", ""},
	{"message Spare {\n  #1 note text?\n}", "module skerry.pier\nmessage Spare {\n  #1 note text?\n}"},
	{"*Berth", "Mooring"},
	{"*Way", "Passage"},
	{"*Deck", "Floor"},
	{"const BERTHS", "const MOORINGS"},
	{"call find(", "call look_up("},
	{"call find(", "call fi_nd("},
	{"call find(BookRequest) -> Booking", "call find(BookRequest) -> stream Booking"},
	{"call find(BookRequest) -> Booking", "call find(stream BookRequest) -> Booking"},
	{"call load(stream Money)", "call load(Money)"},
	{"call watch(Other) -> stream Money", "call watch(Other) -> Money"},
	{"call watch(Other) -> stream Money", "call watch(Other) -> stream Other"},
	{"call stow(StowAt, stream Money)", "call stow(stream Money)"},
	{"call stow(StowAt, stream Money)", "call stow(Slip, stream Money)"},
	{"call stow(StowAt, stream Money)", "call stow(Spare, stream Money)"},
	{"call load(stream Money)", "call load(Spare, stream Money)"},
	{"*StowAt", "Place"},
	{"const BERTHS int32 = 12\n", "module skerry.pier\nconst BERTHS int32 = 12\n"},
	{"error Full 409 {\n  #1 left int32\n}", "module skerry.pier\nerror Full 409 {\n  #1 left int32\n}"},
	{"*skerry.harbour", "skerry.haven"},
	{"credential desk = bearer\n", ""},
	{"credential desk = bearer", "credential counter = bearer"},
	{"credential desk = bearer", "credential desk = basic"},
	{"credential desk = bearer\n", "module skerry.pier\ncredential desk = bearer\n"},
}

// definitions loads a text, a file a module.
func definitions(t *testing.T, text string) *schema.Definitions {
	var files []*source.File
	for i, part := range strings.Split("\n"+text, "\nmodule ")[1:] {
		files = append(files, source.NewFile(fmt.Sprintf("harbour%d.faithful", i), "module "+part))
	}
	defs, findings := check.Load(files)
	if len(findings) > 0 {
		t.Fatalf("%s in:\n%s", findings[0].Message, text)
	}
	return defs
}

// changed makes a change once; everywhere, when it begins with a star. What has
// another module put before it moves there.
func changed(c struct{ old, new string }) string {
	if old, everywhere := strings.CutPrefix(c.old, "*"); everywhere {
		return strings.ReplaceAll(harbour, old, c.new)
	}
	if strings.HasPrefix(c.new, "module ") {
		text := strings.Replace(harbour, c.old, "", 1)
		if strings.Contains(c.new, "error") {
			text = strings.NewReplacer("fails Full", "fails pier.Full", "module skerry.harbour\n",
				"module skerry.harbour\nuse skerry.pier\n").Replace(text)
		}
		return text + "\n" + c.new
	}
	text := strings.Replace(harbour, c.old, c.new, 1)
	if strings.Contains(c.new, "Packed") { // an error that is renamed is renamed everywhere
		text = strings.ReplaceAll(text, "Full", "Packed")
	}
	return text
}

func writeStubs(t *testing.T, dir string, language stubs.Language, defs *schema.Definitions, options stubs.Options) {
	files, err := language.Generate(defs, stubs.About{Name: "harbour", Version: "draft"}, options)
	require.NoError(t, err)
	for _, f := range files {
		write(t, filepath.Join(dir, f.Path), string(f.Content))
	}
}

func write(t *testing.T, path, text string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
}

// languages are all that stubs are made in.
var languages = []stubs.Language{golang.Language{}, typescript.Language{}, python.Language{}, java.Language{}}

// concerned are those whose code is judged apart.
var concerned = []string{"users", "callers", "implementers"}

// breaksIn tells whose code in a language breaks by a comparison, and returns the
// lines that prove it.
func breaksIn(language string, r *Report) (breaks map[string]bool, lines [][]string) {
	breaks = map[string]bool{}
	for _, f := range r.Changes {
		for _, e := range f.Effects {
			if e.Covers == language && e.Verdict == verdict.Breaking {
				breaks[e.Who] = true
				lines = append(lines, e.Proof.Code)
			}
		}
	}
	return breaks, lines
}

// judgedRightly holds what the table says of whose code breaks against what a compiler
// says of their programs. Those of callers and implementers name types, so what takes
// a name away may break them, too.
func judgedRightly(t *testing.T, about string, breaks map[string]bool, fails func(who string) (bool, string)) {
	for _, who := range concerned {
		failed, output := fails(who)
		if who != "users" && breaks["users"] && !breaks[who] {
			continue
		}
		assert.Equal(t, breaks[who], failed, "%s: the table says that code of %s breaks: %t; the compiler: %s", about, who,
			breaks[who], output)
	}
}

// TestGoCode compiles a program in the documented style, which uses all of
// the old stubs, against the new stubs of every change: it must fail exactly
// where the table says so. The lines of each proof must, too.
func TestGoCode(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "go.mod"), "module truth\n\ngo 1.24\n")
	old := definitions(t, harbour)
	writeStubs(t, filepath.Join(dir, "old"), golang.Language{}, old, stubs.Everything("truth/old"))
	for _, who := range concerned {
		write(t, filepath.Join(dir, "old", who, "use.go"), goProgram(old, "truth/old", who))
	}
	verdicts, proofs := map[string]map[string]bool{}, map[string]bool{}
	for i, c := range codeChanges {
		if testing.Short() && i%12 != 0 {
			continue
		}
		name := fmt.Sprintf("c%02d", i)
		new := definitions(t, changed(c))
		if new.Module("skerry.harbour") == nil {
			// Go builds nothing at all where a package is missing; that it is missing is plain.
			breaks, lines := breaksIn("go", Compare(old, new,
				Promise{Rollout: "server-leads", Stored: "each-reads-other", Languages: []stubs.Language{golang.Language{}}}))
			assert.True(t, breaks["users"])
			assert.Contains(t, lines[0][0], "skerry/harbour")
			continue
		}
		writeStubs(t, filepath.Join(dir, name), golang.Language{}, new, stubs.Everything("truth/"+name))
		for _, who := range concerned {
			write(t, filepath.Join(dir, name, who, "use.go"), goProgram(old, "truth/"+name, who))
		}
		breaks, lines := breaksIn("go", Compare(old, new,
			Promise{Rollout: "server-leads", Stored: "each-reads-other", Languages: []stubs.Language{golang.Language{}}}))
		verdicts["truth/"+name] = breaks
		for j, l := range lines {
			for at, package_ := range map[string]string{"old": "truth/old", name: "truth/" + name} {
				folder := fmt.Sprintf("%s/proof%d_%d", at, i, j)
				write(t, filepath.Join(dir, folder, "proof.go"),
					goFile(package_, "func _(ctx context.Context) {\n\t"+strings.Join(l, "\n\t")+"\n"+goUsed(l)+"}\n"))
				proofs["truth/"+folder] = at != "old"
			}
		}
	}
	for name := range verdicts {
		shareSupport(t, dir, strings.TrimPrefix(name, "truth/"))
	}
	build := exec.Command("go", "build", "-gcflags=-e", "./...")
	build.Dir = dir
	output, _ := build.CombinedOutput() // it fails where code breaks
	failed := map[string]string{}
	current := ""
	for line := range strings.SplitSeq(string(output), "\n") {
		if name, ok := strings.CutPrefix(line, "# "); ok {
			current = name
		} else if current != "" {
			failed[current] += line + "\n"
		}
	}
	for _, who := range concerned {
		require.NotContains(t, failed, "truth/old/"+who)
	}
	for i, c := range codeChanges {
		name := fmt.Sprintf("truth/c%02d", i)
		if breaks, tried := verdicts[name]; tried {
			judgedRightly(t, fmt.Sprintf("%q → %q", c.old, c.new), breaks, func(who string) (bool, string) {
				output, fails := failed[name+"/"+who]
				return fails, output
			})
		}
	}
	for name, want := range proofs {
		_, fails := failed[name]
		assert.Equal(t, want, fails, "%s must fail: %t; the compiler: %s", name, want, failed[name])
	}
}

// shareSupport lets what was made for a change use the support packages of the old
// stubs, which are the same, so that they are compiled once.
func shareSupport(t *testing.T, dir, name string) {
	for _, support := range []string{"web", "wire"} {
		require.NoError(t, os.RemoveAll(filepath.Join(dir, name, "faithful", support)))
	}
	from, to := fmt.Sprintf("\"truth/%s/faithful/w", name), "\"truth/old/faithful/w"
	require.NoError(t, filepath.WalkDir(filepath.Join(dir, name), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".go" {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(path, []byte(strings.ReplaceAll(string(text), from, to)), 0o666)
	}))
}

// goUsed uses the variables that lines declare, as Go demands.
func goUsed(lines []string) string {
	used := ""
	for _, name := range []string{"m", "v"} {
		if strings.Contains(strings.Join(lines, "\n"), "var "+name+" ") {
			used += "\t_ = " + name + "\n"
		}
	}
	return used
}

// goFile is a file that imports what its body can use.
func goFile(root, body string) string {
	return fmt.Sprintf(`package use

import (
	"context"
	"iter"
	"time"

	%q
	%q
)

var (
	_ context.Context
	_ iter.Seq[int]
	_ time.Time
	_ wire.UUID
	_ harbour.Booking
)

%s`, root+"/faithful/wire", root+"/skerry/harbour", body)
}

// goProgram uses everything of definitions, in the documented style, as users of
// types, callers or implementers do.
func goProgram(defs *schema.Definitions, root, who string) string {
	var b strings.Builder
	for _, m := range defs.Modules {
		if who != "users" {
			goServices(&b, m, who)
			continue
		}
		for _, c := range m.Consts {
			fmt.Fprintf(&b, "var _ %s = harbour.%s\n", golang.TypeName(c.Type), golang.ConstName(c))
		}
		for _, e := range m.Enums {
			for _, x := range e.Members {
				fmt.Fprintf(&b, "var _ harbour.%s = harbour.%s\n", e.Name, golang.MemberName(x))
			}
		}
		for _, x := range m.Types {
			base := golang.TypeName(x.Bare())
			for _, literal := range goLiterals(x.Type.Kind) {
				fmt.Fprintf(&b, "var _ harbour.%s = %s\n", x.Name, literal)
			}
			fmt.Fprintf(&b, "func _(m harbour.%s) {\n\tvar v %s = (%s)(m)\n\tm = harbour.%s(v)\n}\n", x.Name, base, base, x.Name)
		}
		for _, u := range m.Unions {
			for _, a := range u.Alternatives {
				fmt.Fprintf(&b, "func _(w harbour.%s) {\n\tif a, ok := w.(harbour.%s); ok {\n\t\tvar v %s = a.Value\n\t\tw = "+
					"harbour.%s{Value: v}\n\t}\n}\n", u.Name, golang.AlternativeName(a), golang.TypeName(a.Type),
					golang.AlternativeName(a))
			}
		}
		for _, msg := range m.Messages {
			fmt.Fprintf(&b, "func _(m harbour.%s) {\n", msg.Name)
			for _, f := range msg.Fields {
				fmt.Fprintf(&b, "\t{\n\t\tvar v %s = m.%s\n\t\tm = harbour.%s{%s: v}\n\t}\n", golang.FieldTypeName(f),
					golang.FieldName(f), msg.Name, golang.FieldName(f))
				if f.Presence == schema.Defaulted {
					fmt.Fprintf(&b, "\t{\n\t\tvar v %s = m.%sOrDefault()\n\t\t_ = v\n\t}\n", golang.TypeName(f.Type),
						golang.FieldName(f))
				}
			}
			if msg.Raw() == nil {
				b.WriteString("\t_, _ = m.MarshalJSON()\n")
			}
			b.WriteString("}\n")
			if msg.IsError() {
				fmt.Fprintf(&b, "var _ error = &harbour.%s{}\n", msg.Name)
			}
		}
	}
	return goFile(root, b.String())
}

// goLiterals are what programs write for values of a kind.
func goLiterals(k schema.Kind) []string {
	switch {
	case k.IsInteger():
		low, high := k.Range()
		return []string{fmt.Sprint(low), fmt.Sprint(high)}
	case k == schema.KindFloat32:
		return []string{"0.5"}
	case k == schema.KindFloat64:
		return []string{"0.5", "1e300"}
	case k == schema.KindText:
		return []string{`"EID-0715"`}
	case k == schema.KindBytes:
		return []string{"[]byte{1}"}
	}
	return nil
}

// goServices calls or implements all calls of a module.
func goServices(b *strings.Builder, m *schema.Module, who string) {
	for _, s := range m.Services {
		fmt.Fprintf(b, "func _() {\n")
		if who == "callers" {
			fmt.Fprintf(b, "\tclient := harbour.New%sClient(\"\")\n\t_ = client\n", s.Name)
		} else {
			fmt.Fprintf(b, "\t_ = harbour.Serve%s(harbour.%sCalls{})\n", s.Name, s.Name)
		}
		for _, c := range s.Calls {
			name := golang.CallName(c)
			in, out := "context.Context", "error"
			begun := "context.Background()"
			if c.Head != nil {
				begun += ", &harbour." + c.Head.Name + "{}"
			}
			if c.Request != nil {
				in += ", *harbour." + c.Request.Name
			}
			if c.Response != nil {
				out = "(*harbour." + c.Response.Name + ", error)"
			}
			if who == "callers" {
				arguments := "context.Background()"
				if c.Request != nil {
					arguments += ", &harbour." + c.Request.Name + "{}"
				}
				switch {
				case c.RequestStream:
					fmt.Fprintf(b, "\t{\n\t\tsender := client.%s(%s)\n\t\t_ = "+
						"sender.Send(&harbour.%s{})\n\t\tanswer, _ := sender.Finish()\n\t\tvar _ *harbour.%s = answer\n\t}\n", name,
						begun, c.Request.Name, c.Response.Name)
				case c.ResponseStream:
					fmt.Fprintf(b, "\t{\n\t\tvar all iter.Seq2[*harbour.%s, error] = client.%s(%s)\n\t\t_ = all\n\t}\n",
						c.Response.Name, name, arguments)
				case c.Response == nil:
					fmt.Fprintf(b, "\t{\n\t\tvar err error = client.%s(%s)\n\t\t_ = err\n\t}\n", name, arguments)
				default:
					fmt.Fprintf(b, "\t{\n\t\tanswer, err := client.%s(%s)\n\t\tvar _ *harbour.%s = answer\n\t\t_ = err\n\t}\n",
						name, arguments, c.Response.Name)
				}
				continue
			}
			switch {
			case c.RequestStream:
				in = "context.Context"
				if c.Head != nil {
					in += ", *harbour." + c.Head.Name
				}
				in += fmt.Sprintf(", iter.Seq2[*harbour.%s, error]", c.Request.Name)
			case c.ResponseStream:
				in, out = fmt.Sprintf("context.Context, *harbour.%s, func(*harbour.%s) error", c.Request.Name, c.Response.Name),
					"error"
			}
			fmt.Fprintf(b, "\t{\n\t\tvar f func(%s) %s\n\t\t_ = harbour.%sCalls{%s: f}\n\t}\n", in, out, s.Name, name)
		}
		b.WriteString("}\n")
	}
}

// TestTypeScriptCode is TestGoCode for TypeScript.
func TestTypeScriptCode(t *testing.T) {
	toolchain.Require(t, "typescript")
	dir := typescriptProject(t)
	old := definitions(t, harbour)
	writeStubs(t, filepath.Join(dir, "src/old"), typescript.Language{}, old, stubs.Everything(""))
	judged := map[string]map[string]bool{"src/old": {}}
	for _, who := range concerned {
		write(t, filepath.Join(dir, "src/old", "use_"+who+".ts"), tsProgram(old, who))
	}
	verdicts := map[string]bool{}
	about := map[string]string{}
	for i, c := range codeChanges {
		name := fmt.Sprintf("src/c%02d", i)
		new := definitions(t, changed(c))
		writeStubs(t, filepath.Join(dir, name), typescript.Language{}, new, stubs.Everything(""))
		for _, who := range concerned {
			write(t, filepath.Join(dir, name, "use_"+who+".ts"), tsProgram(old, who))
		}
		breaks, lines := breaksIn("typescript", Compare(old, new,
			Promise{Rollout: "server-leads", Stored: "each-reads-other", Languages: []stubs.Language{typescript.Language{}}}))
		judged[name] = breaks
		about[name] = fmt.Sprintf("%q → %q", c.old, c.new)
		for j, l := range lines {
			for _, at := range []string{"src/old", name} {
				file := fmt.Sprintf("%s/proof%d_%d.ts", at, i, j)
				write(t, filepath.Join(dir, file), tsProof(old, l))
				verdicts[file] = at != "src/old"
				about[file] = strings.Join(l, "\n")
			}
		}
	}
	check := exec.Command("node_modules/.bin/tsc")
	check.Dir = dir
	output, _ := check.CombinedOutput() // it fails where code breaks
	failed := map[string]string{}
	for line := range strings.SplitSeq(string(output), "\n") {
		if file, rest, ok := strings.Cut(line, "("); ok && strings.HasPrefix(file, "src/") {
			failed[file] += rest + "\n"
		}
	}
	for file, want := range verdicts {
		_, fails := failed[file]
		assert.Equal(t, want, fails, "%s\nthe table says that %s breaks: %t; the compiler: %s", about[file], file, want,
			failed[file])
	}
	for name, breaks := range judged {
		judgedRightly(t, about[name], breaks, func(who string) (bool, string) {
			output, fails := failed[name+"/use_"+who+".ts"]
			return fails, output
		})
	}
	for file := range failed {
		if _, isProof := verdicts[file]; !isProof {
			assert.Contains(t, file, "/use_", "the stubs themselves must compile: %s", failed[file])
		}
	}
}

// tsNames are the names of everything that the types file of a module has.
func tsNames(m *schema.Module) (types, values []string) {
	for _, c := range m.Consts {
		values = append(values, c.Name)
	}
	for _, e := range m.Enums {
		types = append(types, e.Name)
	}
	for _, x := range m.Types {
		types = append(types, x.Name)
	}
	for _, u := range m.Unions {
		types = append(types, u.Name)
	}
	for _, msg := range m.Messages {
		types = append(types, msg.Name, msg.Name+"Init")
		values = append(values, typescript.ToolsName(&msg.Decl))
	}
	for _, p := range m.Patches {
		types = append(types, p.Name)
	}
	return types, values
}

// tsWire imports the types of the support files that a body names.
func tsWire(body string) string {
	var used []string
	for _, name := range []string{"Uuid", "Instant", "Decimal", "Duration", "CalendarDate", "Any",
		"Body"} {
		if regexp.MustCompile(`\b` + name + `\b`).MatchString(body) {
			used = append(used, name)
		}
	}
	if len(used) == 0 {
		return ""
	}
	return "import type { " + strings.Join(used, ", ") + " } from \"./faithful/wire.js\";\n"
}

// tsProof puts the lines of a proof below imports of the names in them.
func tsProof(defs *schema.Definitions, lines []string) string {
	body := strings.NewReplacer(".../skerry", "./skerry", ".../types.js", "./skerry/harbour/types.js", ".../client.js",
		"./skerry/harbour/client.js", ".../server.js", "./skerry/harbour/server.js",
		".../faithful", "./faithful").Replace(strings.Join(lines, "\n"))
	if strings.HasPrefix(body, "import") {
		return body + "\n"
	}
	types, values := tsNames(defs.Modules[0])
	var used []string
	for _, name := range types {
		if strings.Contains(body, name) {
			used = append(used, "type "+name)
		}
	}
	for _, name := range values {
		if strings.Contains(body, name) {
			used = append(used, name)
		}
	}
	head := tsWire(body)
	if len(used) > 0 {
		head += "import { " + strings.Join(used, ", ") + " } from \"./skerry/harbour/types.js\";\n"
	}
	for _, s := range defs.Modules[0].Services {
		if strings.Contains(body, s.Name+"Client") {
			head += "import { " + s.Name + "Client } from \"./skerry/harbour/client.js\";\n"
		}
		if strings.Contains(body, s.Name+"Calls") {
			head += "import { type " + s.Name + "Calls, serve" + s.Name + " } from \"./skerry/harbour/server.js\";\n"
		}
	}
	return head + "export {};\n" + body + "\n"
}

// orBody is the type of a field, or that of what is the body as it is.
func orBody(t string, f *schema.Field) string {
	if f.IsRaw() {
		return "Body"
	}
	return t
}

// mayLack is the type of a field as it is read.
func mayLack(t string, f *schema.Field, or string) string {
	if f.Presence == schema.Optional {
		return t + or
	}
	return t
}

// tsProgram is goProgram for TypeScript.
func tsProgram(defs *schema.Definitions, who string) string {
	m := defs.Modules[0]
	if who != "users" {
		return tsProof(defs, tsServices(m, who))
	}
	types, values := tsNames(m)
	var b strings.Builder
	fmt.Fprintf(&b, "import type { %s } from \"./skerry/harbour/types.js\";\nimport { %s } from "+
		"\"./skerry/harbour/types.js\";\n", strings.Join(types, ", "), strings.Join(values, ", "))
	for _, c := range m.Consts {
		fmt.Fprintf(&b, "export const use%s: %s = %s;\n", c.Name, typescript.TypeName(c.Type), c.Name)
	}
	for _, e := range m.Enums {
		for _, x := range e.Members {
			fmt.Fprintf(&b, "export const use%s%s: %s = %q;\n", e.Name, x.Name, e.Name, x.Name)
		}
	}
	if len(m.Credentials) > 0 {
		b.WriteString("import type { CredentialName } from \"./faithful/about.js\";\n")
	}
	for _, x := range m.Credentials {
		fmt.Fprintf(&b, "export const use%s: CredentialName[] = [%q, %q];\n", x.Name, x.Name, x.FullName())
	}
	for _, x := range m.Types {
		fmt.Fprintf(&b, "export function use%s(m: %s): %s {\n  return m;\n}\n", x.Name, x.Name, typescript.TypeName(x.Bare()))
	}
	for _, u := range m.Unions {
		for _, a := range u.Alternatives {
			fmt.Fprintf(&b, "export function use%s(value: %s): %s {\n  const way: %s = { kind: %q, value };\n  "+
				"return way;\n}\n", typescript.AlternativeName(a), typescript.TypeName(a.Type), u.Name, u.Name, a.Name)
		}
	}
	for _, msg := range m.Messages {
		fmt.Fprintf(&b, "export function use%s(m: %s): void {\n", msg.Name, msg.Name)
		var all, required []string
		for _, f := range msg.Fields {
			name := typescript.FieldName(f)
			read := mayLack(orBody(typescript.TypeName(f.Type), f), f, " | undefined")
			fmt.Fprintf(&b, "  const v%d: %s = m.%s;\n", f.Number, read, name)
			all = append(all, fmt.Sprintf("%s: v%d", name, f.Number))
			if f.Presence == schema.Required {
				required = append(required, fmt.Sprintf("%s: v%d", name, f.Number))
			}
		}
		for _, fields := range [][]string{all, required} {
			fmt.Fprintf(&b, "  %s.make({ %s });\n", typescript.ToolsName(&msg.Decl), strings.Join(fields, ", "))
		}
		if msg.Raw() == nil {
			fmt.Fprintf(&b, "  %s.toJson(m);\n", typescript.ToolsName(&msg.Decl))
		}
		b.WriteString("}\n")
	}
	return tsWire(b.String()) + b.String()
}

// tsServices calls or implements all calls of a module.
func tsServices(m *schema.Module, who string) (lines []string) {
	side := func(m *schema.Message) string {
		if m == nil {
			return "void"
		}
		return m.Name
	}
	for _, s := range m.Services {
		if who == "callers" {
			lines = append(lines, fmt.Sprintf("export const client%s: %sClient = new %sClient(\"\");", s.Name, s.Name, s.Name))
		} else {
			lines = append(lines, fmt.Sprintf("export const calls%s: %sCalls = {", s.Name, s.Name))
		}
		for _, c := range s.Calls {
			name := typescript.CallName(c)
			parameter, argument := "", ""
			switch {
			case c.Head != nil:
				parameter = fmt.Sprintf("head: %s, elements: AsyncIterable<%s>", c.Head.Name, c.Request.Name)
				argument = "head, elements"
			case c.RequestStream:
				parameter, argument = fmt.Sprintf("elements: AsyncIterable<%s>", c.Request.Name), "elements"
			case c.Request != nil:
				parameter, argument = "request: "+c.Request.Name, "request"
			}
			switch {
			case who == "callers" && c.ResponseStream:
				lines = append(lines, fmt.Sprintf("export function %s(%s): AsyncIterable<%s> { return client%s.%s(%s); }", name,
					parameter, c.Response.Name, s.Name, name, argument))
			case who == "callers":
				lines = append(lines, fmt.Sprintf("export async function %s(%s): Promise<void> { const answer: %s = await "+
					"client%s.%s(%s); }", name, parameter, side(c.Response), s.Name, name, argument))
			case c.ResponseStream:
				lines = append(lines, fmt.Sprintf("  async *%s(%s): AsyncGenerator<%s> { throw new Error(); },", name, parameter,
					c.Response.Name))
			default:
				lines = append(lines, fmt.Sprintf("  async %s(%s): Promise<%s> { throw new Error(); },", name, parameter,
					side(c.Response)))
			}
		}
		if who != "callers" {
			lines = append(lines, "};", fmt.Sprintf("serve%s(calls%s);", s.Name, s.Name))
		}
	}
	return lines
}

// TestPythonCode is TestGoCode for Python, as mypy --strict checks it.
func TestPythonCode(t *testing.T) {
	interpreter := toolchain.Python(t)
	dir := t.TempDir()
	old := definitions(t, harbour)
	writeStubs(t, filepath.Join(dir, "old"), python.Language{}, old, stubs.Everything("old"))
	judged := map[string]map[string]bool{"old": {}}
	var files []string
	program := func(name string) {
		for _, who := range concerned {
			file := fmt.Sprintf("%s/use_%s.py", name, who)
			write(t, filepath.Join(dir, file), pyProgram(old, name, who))
			files = append(files, file)
		}
	}
	program("old")
	verdicts := map[string]bool{}
	about := map[string]string{}
	for i, c := range codeChanges {
		if testing.Short() && i%12 != 0 {
			continue
		}
		name := fmt.Sprintf("c%02d", i)
		new := definitions(t, changed(c))
		writeStubs(t, filepath.Join(dir, name), python.Language{}, new, stubs.Everything(name))
		program(name)
		breaks, lines := breaksIn("python", Compare(old, new,
			Promise{Rollout: "server-leads", Stored: "each-reads-other", Languages: []stubs.Language{python.Language{}}}))
		judged[name] = breaks
		about[name] = fmt.Sprintf("%q → %q", c.old, c.new)
		for j, l := range lines {
			for _, at := range []string{"old", name} {
				file := fmt.Sprintf("%s/proof%d_%d.py", at, i, j)
				write(t, filepath.Join(dir, file), pyProof(old, at, l))
				verdicts[file] = at != "old"
				about[file] = strings.Join(l, "\n")
			}
		}
	}
	for file := range verdicts {
		files = append(files, file)
	}
	check := exec.Command(interpreter, append([]string{"-m", "mypy", "--strict", "--no-error-summary",
		"--explicit-package-bases", "--follow-imports=silent"}, files...)...)
	check.Dir = dir
	output, _ := check.CombinedOutput() // it fails where code breaks
	failed := map[string]string{}
	for line := range strings.SplitSeq(string(output), "\n") {
		if file, rest, ok := strings.Cut(line, ":"); ok && strings.HasSuffix(file, ".py") &&
			strings.Contains(rest, " error: ") {
			failed[file] += rest + "\n"
		}
	}
	require.Greater(t, len(failed), 1, "%s", output)
	for file, want := range verdicts {
		_, fails := failed[file]
		assert.Equal(t, want, fails, "%s\nthe table says that %s breaks: %t; mypy: %s", about[file], file, want, failed[file])
	}
	for name, breaks := range judged {
		judgedRightly(t, about[name], breaks, func(who string) (bool, string) {
			output, fails := failed[name+"/use_"+who+".py"]
			return fails, output
		})
	}
}

// pyNames are the names of everything that a module has, with those of its
// services.
func pyNames(m *schema.Module) []string {
	names := pyTypeNames(m)
	for _, s := range m.Services {
		names = append(names, s.Name, s.Name+"Client", "serve_"+syntax.SnakeCase(s.Name))
	}
	return names
}

func pyTypeNames(m *schema.Module) []string {
	var names []string
	for _, c := range m.Consts {
		names = append(names, c.Name)
	}
	for _, e := range m.Enums {
		names = append(names, e.Name)
	}
	for _, x := range m.Types {
		names = append(names, x.Name)
	}
	for _, u := range m.Unions {
		names = append(names, u.Name)
		for _, a := range u.Alternatives {
			names = append(names, python.AlternativeName(a))
		}
	}
	for _, msg := range slices.Concat(m.Messages, m.Patches) {
		names = append(names, msg.Name)
	}
	return names
}

const pyHead = "from __future__ import annotations\n\nfrom datetime import date\nfrom decimal import " +
	"Decimal\nfrom uuid import UUID\n\n"

// pyProof puts the lines of a proof below imports of the names in them.
func pyProof(defs *schema.Definitions, root string, lines []string) string {
	body := strings.NewReplacer("from … import", "from "+root+".skerry.harbour import", "import …",
		"import "+root+".").Replace(strings.Join(lines, "\n"))
	head := pyHead + fmt.Sprintf("from collections.abc import AsyncIterator\nfrom %s.faithful.server import Context, "+
		"Elements\nfrom %s.faithful.wire import Any, Body, Duration, Instant\n", root, root)
	if !strings.HasPrefix(body, "from") && !strings.HasPrefix(body, "import") {
		for _, name := range pyNames(defs.Modules[0]) {
			if regexp.MustCompile(`\b` + name + `\b`).MatchString(body) {
				head += fmt.Sprintf("from %s.skerry.harbour import %s\n", root, name)
			}
		}
	}
	return head + body + "\n"
}

// pyProgram is goProgram for Python.
func pyProgram(defs *schema.Definitions, root, who string) string {
	m := defs.Modules[0]
	if who != "users" {
		return pyProof(defs, root, []string{pyServices(m, who)})
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%sfrom collections.abc import AsyncIterator\nfrom %s.faithful.server import Context, "+
		"Elements\nfrom %s.faithful.wire import Any, Body, Duration, Instant\nfrom %s.skerry.harbour import %s\n\n", pyHead, root,
		root, root, strings.Join(pyTypeNames(m), ", "))
	for _, c := range m.Consts {
		fmt.Fprintf(&b, "use_%s: %s = %s\n", c.Name, python.TypeName(c.Type), c.Name)
	}
	for _, e := range m.Enums {
		for _, x := range e.Members {
			fmt.Fprintf(&b, "use_%s_%s: %s = %s.%s\n", e.Name, x.Name, e.Name, e.Name, python.MemberName(x))
		}
	}
	for _, x := range m.Types {
		base := python.TypeName(x.Bare())
		if x.Type.Kind == schema.KindAny { // another name for it, that makes nothing
			fmt.Fprintf(&b, "\n\ndef use_%s(v: %s) -> %s:\n    return v\n", x.Name, base, x.Name)
			continue
		}
		fmt.Fprintf(&b, "\n\ndef use_%s(v: %s) -> %s:\n    return %s(v)\n", x.Name, base, base, x.Name)
	}
	for _, u := range m.Unions {
		for _, a := range u.Alternatives {
			name := python.AlternativeName(a)
			fmt.Fprintf(&b, "\n\ndef use_%s(v: %s) -> %s:\n    way = %s(v)\n    v = way.value\n    return way\n", name,
				python.TypeName(a.Type), u.Name, name)
		}
	}
	for _, msg := range m.Messages {
		fmt.Fprintf(&b, "\n\ndef use_%s(m: %s) -> None:\n    pass\n", msg.Name, msg.Name)
		var all, required []string
		for _, f := range msg.Fields {
			name := python.FieldName(f)
			fmt.Fprintf(&b, "    v%d: %s = m.%s\n", f.Number, mayLack(orBody(python.TypeName(f.Type), f), f, " | None"), name)
			all = append(all, fmt.Sprintf("%s=v%d", name, f.Number))
			if f.Presence == schema.Required {
				required = append(required, fmt.Sprintf("%s=v%d", name, f.Number))
			}
		}
		for _, fields := range [][]string{all, required} {
			fmt.Fprintf(&b, "    %s(%s)\n", msg.Name, strings.Join(fields, ", "))
		}
		if msg.Raw() == nil {
			b.WriteString("    m.to_json()\n")
		}
	}
	return b.String()
}

// pyServices calls or implements all calls of a module.
func pyServices(m *schema.Module, who string) string {
	var b strings.Builder
	for _, s := range m.Services {
		var client, desk strings.Builder
		for _, c := range s.Calls {
			parameter, argument, answer := "", "", "None"
			if c.RequestStream {
				if c.Head != nil {
					parameter, argument = "head: "+c.Head.Name+", ", "head, "
				}
				fmt.Fprintf(&client, "\n\ndef use_%s(client: %sClient, %selements: list[%s]) -> None:\n    answer: %s = "+
					"client.%s(%selements)\n", c.Name, s.Name, parameter, c.Request.Name, c.Response.Name, python.CallName(c), argument)
				fmt.Fprintf(&desk, "    async def %s(self, %selements: Elements[%s], context: Context) -> %s:\n        raise "+
					"NotImplementedError\n\n", python.CallName(c), parameter, c.Request.Name, c.Response.Name)
				continue
			}
			if c.ResponseStream {
				fmt.Fprintf(&client, "\n\ndef use_%s(client: %sClient, request: %s) -> None:\n    for element in "+
					"client.%s(request):\n        answer: %s = element\n", c.Name, s.Name, c.Request.Name, python.CallName(c),
					c.Response.Name)
				fmt.Fprintf(&desk, "    async def %s(self, request: %s, context: Context) -> AsyncIterator[%s]:\n        "+
					"raise NotImplementedError\n        yield\n\n", python.CallName(c), c.Request.Name, c.Response.Name)
				continue
			}
			if c.Request != nil {
				parameter, argument = ", request: "+c.Request.Name, "request"
				fmt.Fprintf(&client, "\n\ndef use_%s(client: %sClient, request: %s) -> None:\n", c.Name, s.Name, c.Request.Name)
			} else {
				fmt.Fprintf(&client, "\n\ndef use_%s(client: %sClient) -> None:\n", c.Name, s.Name)
			}
			if c.Response != nil {
				answer = c.Response.Name
				fmt.Fprintf(&client, "    answer: %s = client.%s(%s)\n", answer, python.CallName(c), argument)
			} else {
				fmt.Fprintf(&client, "    client.%s(%s)\n", python.CallName(c), argument)
			}
			fmt.Fprintf(&desk, "    async def %s(self%s, context: Context) -> %s:\n        raise NotImplementedError\n\n",
				python.CallName(c), parameter, answer)
		}
		if who == "callers" {
			fmt.Fprintf(&b, "%s\n\nuse_client_%s = %sClient(\"\")\n", client.String(), s.Name, s.Name)
		} else {
			fmt.Fprintf(&b, "\n\nclass Desk%s(%s):\n%s\n\nuse_%s = serve_%s(Desk%s())\n", s.Name, s.Name, desk.String(),
				s.Name, syntax.SnakeCase(s.Name), s.Name)
		}
	}
	return b.String()
}
