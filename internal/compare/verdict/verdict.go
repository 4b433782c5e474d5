// Package verdict holds what is said of changes, and to whom. It decides nothing and must
// not know how anything is decided.
package verdict

import "faithfulcourier/internal/compare/change"

// Verdict is what a change does to a promise.
type Verdict uint8

// The verdicts, from harmless to harmful.
const (
	Compatible Verdict = iota // nothing to do
	Altering                  // all is read, but may mean something else
	Breaking                  // an older or newer program fails
)

func (v Verdict) String() string { return [...]string{"compatible", "altering", "breaking"}[v] }

// Promise is what a project promises; see project.Promise.
type Promise struct {
	Rollout string
	Stored  string
	Covers  []string // of "binary", "json" and "http"
}

// Promises tells whether the promise covers an encoding, or HTTP.
func (p Promise) Promises(covers string) bool {
	for _, c := range p.Covers {
		if c == covers {
			return true
		}
	}
	return false
}

// Position is where a payload stands in a conversation.
type Position string

// The positions.
const (
	Request Position = "request"
	Answer  Position = "answer"
	Failure Position = "error"
	Stored  Position = "stored"
	Code    Position = "code"
	All     Position = "" // wherever it stands
)

// Effect is what a change does to one promise: payloads in a position and a direction,
// or code in a language.
type Effect struct {
	Covers   string // what of the promise: "binary", "json", "http" or a language
	Position Position
	Who      string   // of code whose: "users" of types, "callers" or "implementers"
	NewReads bool     // NEW reads what OLD writes; else OLD reads what NEW writes
	Calls    []string // the calls concerned, by short name, in order
	Verdict  Verdict
	Sentence string
	Proof    *Proof // of a break, and of what is altered where a payload shows it; else nil
}

// Proof is what happened when a change was tried.
type Proof struct {
	Message  string   // full name of the message that is written
	ReadAs   string   // full name of the message that it is read as; "" where it is not a payload
	JSON     string   // the payload as JSON, compact
	Binary   []byte   // the payload as CBOR
	Encoding string   // which of the two was read
	Writer   string   // "a newer server", "an older client"…
	Reader   string   //
	Outcome  string   // the reader's own error, or what it reads instead
	Code     []string // instead of a payload: lines that no longer compile
	Alone    bool     // what happens was seen with other changes undone, which hide it

	Request     string   // of HTTP: the method and target that were sent
	Head        string   // as JSON: what was sent with it before a stream
	Credentials []string // that were shown with it, by full name
	Answer      string   // of HTTP: how the answer began that was given
}

// Judged is a change with all that it does.
type Judged struct {
	*change.Change
	Effects   []*Effect // sorted: worst first
	Undecided bool      // whether it breaks was not decided
}

// Verdict is the worst of the change's effects.
func (j *Judged) Verdict() Verdict {
	worst := Compatible
	for _, e := range j.Effects {
		worst = max(worst, e.Verdict)
	}
	return worst
}
