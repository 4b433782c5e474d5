// Package compare says what a change of definitions breaks, for whom, and
// proves it.
//
//	pairs.go       what of two definitions belongs together
//	differ.go      pairs → facts, without opinion; marks.go those of bounds, names in JSON, places and
//	               clauses, types.go those of named types and unions
//	judge.go       facts → verdicts, over forms, positions and directions
//	wire.go        what one side's payloads are to the other side's reader, place by place
//	look.go        values of one type, read as another; values.go which ones, equal.go what is equal
//	prove.go       breaks → witnesses, by the reference reader
//	http.go        methods, paths, streams and credentials; places.go and parameters.go what travels
//	               outside of bodies; meet.go sends requests, in memory
//	bounds.go      which bounds allow more
//	fix.go         how to get the same end without a break, tried; edits.go finds places in files, and
//	               carries out what is safe
//	why.go         what is known about each kind of fact
//	waive.go       breaks that the project accepts
//	code.go        what facts do to users' programs, by language; code_python.go those of Python,
//	               code_calls.go callers and implementers
//
// It must not know flags, what lies on disks, or how reports look.
package compare

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/value"
)

// Verdict is what a fact does to a promise.
type Verdict uint8

// The verdicts, from harmless to harmful.
const (
	Holds  Verdict = iota // the promise holds
	Shifts                // it holds, but a meaning may have moved
	Breaks                // it is broken
)

func (v Verdict) String() string { return [...]string{"holds", "shifts", "breaks"}[v] }

// Kind is a kind of fact. The names are stable.
type Kind string

// The kinds of facts.
const (
	ModuleAdded    Kind = "module-added"
	ModuleGone     Kind = "module-gone"
	ModuleRenamed  Kind = "module-renamed"
	MessageAdded   Kind = "message-added"
	MessageGone    Kind = "message-gone"
	MessageRenamed Kind = "message-renamed"
	MessageMoved   Kind = "message-moved"
	ErrorAdded     Kind = "error-added"
	ErrorGone      Kind = "error-gone"
	ErrorRenamed   Kind = "error-renamed"
	ErrorMoved     Kind = "error-moved"
	ErrorStatus    Kind = "error-status-changed"
	EnumAdded      Kind = "enum-added"
	EnumGone       Kind = "enum-gone"
	EnumRenamed    Kind = "enum-renamed"
	EnumMoved      Kind = "enum-moved"
	ConstAdded     Kind = "constant-added"
	ConstGone      Kind = "constant-gone"
	ConstRenamed   Kind = "constant-renamed"
	ConstMoved     Kind = "constant-moved"
	ConstChanged   Kind = "constant-changed"
	ServiceAdded   Kind = "service-added"
	ServiceGone    Kind = "service-gone"
	ServiceRenamed Kind = "service-renamed"
	ServiceMoved   Kind = "service-moved"

	FieldAdded      Kind = "field-added"
	FieldGone       Kind = "field-gone"
	FieldRenamed    Kind = "field-renamed"
	FieldRenumbered Kind = "field-renumbered"
	FieldType       Kind = "field-type-changed"
	FieldPresence   Kind = "field-presence-changed"
	FieldDefault    Kind = "field-default-changed"

	MemberAdded      Kind = "member-added"
	MemberGone       Kind = "member-gone"
	MemberRenamed    Kind = "member-renamed"
	MemberRenumbered Kind = "member-renumbered"

	CallAdded     Kind = "call-added"
	CallGone      Kind = "call-gone"
	CallRenamed   Kind = "call-renamed"
	CallMoved     Kind = "call-moved" // to another service
	CallRequest   Kind = "call-request-changed"
	CallAnswer    Kind = "call-answer-changed"
	CallSafe      Kind = "call-safe-put-on"
	CallUnsafe    Kind = "call-safe-taken-off"
	FailsAdded    Kind = "call-fails-added"
	FailsGone     Kind = "call-fails-gone"
	Retired       Kind = "retired"
	Freed         Kind = "freed-from-retirement"
	Deprecated    Kind = "deprecated-put-on"
	Undeprecated  Kind = "deprecated-taken-off"
	Documentation Kind = "documentation-changed"
)

// Fact is one difference between two definitions.
type Fact struct {
	Kind     Kind
	Where    string       // full name of the element, OLD's where there is one
	Old      string       // how it was, or ""
	New      string       // how it is, or ""
	How      string       // of a type or of bounds: "widened", "tightened"…; or ""
	Place    source.Place // in NEW where it is there, else in OLD
	InOld    bool         // the place is in OLD
	Missed   source.Place // then: what held it, in NEW, where that is there
	Effects  []*Effect    // sorted: worst first
	Waiver   *Waiver      // of a break that the project accepts
	Fix      *Fix         // how to get the same end without breaking; nil where none was found, or asked for
	additive bool
	open     bool // whether it breaks was not decided

	field  fieldPair
	member memberPair

	alternative alternativePair

	call   callPair
	oldAny any // the declaration in OLD, or nil
	newAny any
}

// Verdict is the worst of the fact's effects.
func (f *Fact) Verdict() Verdict {
	worst := Holds
	for _, e := range f.Effects {
		worst = max(worst, e.Verdict)
	}
	return worst
}

// Module is the name of the module that a fact is about, OLD's where there is one.
func (f *Fact) Module() string {
	for _, side := range []any{f.oldAny, f.newAny} {
		switch x := side.(type) {
		case *schema.Module:
			return x.Name
		case *schema.Message, *schema.Enum, *schema.NamedType, *schema.Union, *schema.Const, *schema.Example, *schema.Credential, *schema.Service:
			return schema.Head(x).Module.Name
		}
	}
	// What stands before the first name that is not lower case.
	parts := strings.Split(f.Where, ".")
	if i := slices.IndexFunc(parts, func(part string) bool { return part != strings.ToLower(part) }); i >= 0 {
		parts = parts[:i]
	}
	return strings.Join(parts, ".")
}

// Position is where a payload stands in a conversation.
type Position string

// The positions.
const (
	Request Position = "request"
	Answer  Position = "answer"
	Failure Position = "error"
	Kept    Position = "kept"
	Code    Position = "code"
	All     Position = "" // wherever it stands
)

// Effect is what a fact does to one promise: a form of payload in a position
// and a direction, or code in a language.
type Effect struct {
	Form     string // "binary", "json", "http" or a language
	Position Position
	Who      string   // of code whose: "users" of types, "callers" or "implementers"
	NewReads bool     // NEW reads what OLD writes; else OLD reads what NEW writes
	Calls    []string // the calls concerned, by short name, in order
	Verdict  Verdict
	Sentence string
	Witness  *Witness // of a break; nil when none was found
}

// Witness proves a break.
type Witness struct {
	Message string   // full name of the message that is written
	ReadAs  string   // full name of the message that it is read as; "" where it is no payload
	JSON    string   // the payload as JSON, compact
	Binary  []byte   // the payload as CBOR
	Form    string   // which of the two was read
	Writer  string   // "a newer server", "an older client"…
	Reader  string   //
	Outcome string   // the reader's own error, or what it reads instead
	Code    []string // instead of a payload: lines that no longer compile
	Alone   bool     // what happens was seen with other changes undone, which hide it

	Request     string   // of HTTP: the method and target that were sent
	Credentials []string // that were shown with it, by full name
	payload     *value.Message
}

// Promise is what the project promises; see project.Promise.
type Promise struct {
	Rollout   string
	Kept      string
	Forms     []string
	Languages []string
}

// Report is the outcome of a comparison.
type Report struct {
	Facts []*Fact // worst first, then by name
}

// Count counts the facts of a verdict.
func (r *Report) Count(v Verdict) int {
	n := 0
	for _, f := range r.Facts {
		if f.Verdict() == v {
			n++
		}
	}
	return n
}

// Undecided counts the facts of which nobody knows whether they break.
func (r *Report) Undecided() int {
	n := 0
	for _, f := range r.Facts {
		if f.open {
			n++
		}
	}
	return n
}

// Size is how much the change asks of a version number: 2 for a break, 1 for
// something added or loosened, else 0. What is not decided counts as a break.
func (r *Report) Size() int {
	size := 0
	for _, f := range r.Facts {
		switch {
		case f.Verdict() == Breaks || f.open:
			return 2 // what nobody decided may break
		case f.additive:
			size = 1
		}
	}
	return size
}

// Compare compares two checked definitions under a promise.
func Compare(old, new *schema.Definitions, promise Promise) *Report {
	return Across(old, new, promise, nil)
}

// Across is Compare, where there are versions between the two: what one of them
// renamed or moved, and a later one changed, is found through them. They are asked
// for, oldest first, only where something is gone and something has appeared.
func Across(old, new *schema.Definitions, promise Promise, between func() []*schema.Definitions) *Report {
	d := diff(old, new, between)
	j := &judge{differ: d, promise: promise}
	j.run()
	return &Report{Facts: j.sorted()}
}
