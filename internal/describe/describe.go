// Package describe has the documented model of definitions: what show prints as JSON, which
// docs/definitions.schema.json describes, and what other readers of definitions are made from. Names are full,
// and literals are texts as the language writes them. It knows nothing of how it is shown.
//
//	describe.go  the model
//	of.go        definitions → the model
package describe

import "faithfulcourier/internal/schema"

// Definitions are all modules of a project.
type Definitions struct {
	Digest  string   `json:"digest"`
	Modules []Module `json:"modules"`
}

// Declaration is one declaration by itself.
type Declaration struct {
	Name   string       `json:"name"` // full; of what was asked for, such as a field of it
	Text   string       `json:"text"` // canonical
	Uses   []string     `json:"uses"` // full names
	UsedBy []schema.Use `json:"used_by"`
}

// Module is one module, with all that it declares, each kind in the order of the text.
type Module struct {
	Name          string       `json:"name"`
	Documentation string       `json:"documentation,omitempty"`
	Constants     []Const      `json:"constants"`
	Types         []NamedType  `json:"types"`
	Enums         []Enum       `json:"enums"`
	Unions        []Union      `json:"unions"`
	Messages      []Message    `json:"messages"`
	Errors        []Message    `json:"errors"`
	Examples      []Example    `json:"examples"`
	Credentials   []Credential `json:"credentials"`
	Services      []Service    `json:"services"`
}

// NamedType is a type with a name and bounds of its own.
type NamedType struct {
	Name          string  `json:"name"`
	Documentation string  `json:"documentation,omitempty"`
	Deprecated    string  `json:"deprecated,omitempty"`
	Over          string  `json:"over"`
	Bounds        *Bounds `json:"bounds,omitempty"`
	Secret        bool    `json:"secret"`
}

// Bounds are limits as text, as the language writes them: not every
// number of the definitions is one of JSON's.
type Bounds struct {
	AtLeast string  `json:"at_least,omitempty"`
	AtMost  string  `json:"at_most,omitempty"`
	Length  *Limits `json:"length,omitempty"`
	Count   *Limits `json:"count,omitempty"`
	Pattern string  `json:"pattern,omitempty"`
	Unique  bool    `json:"unique,omitempty"`
}

// Limits are how long or how many something may be.
type Limits struct {
	AtLeast uint64  `json:"at_least"`
	AtMost  *uint64 `json:"at_most,omitempty"`
}

// Union is a union with its alternatives.
type Union struct {
	Name          string        `json:"name"`
	Documentation string        `json:"documentation,omitempty"`
	Deprecated    string        `json:"deprecated,omitempty"`
	Alternatives  []Alternative `json:"alternatives"`
	Retired       []Retired     `json:"retired"`
}

// Alternative is one of the alternatives of a union.
type Alternative struct {
	Number        int    `json:"number"`
	Name          string `json:"name"`
	JSON          string `json:"json,omitempty"` // another name in JSON; below, too
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
	Type          string `json:"type"`
}

// Example is a value of a message, written in the definitions.
type Example struct {
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Of            string `json:"of"`
	Value         string `json:"value"` // as the language writes it
}

// Credential is what callers may have to show.
type Credential struct {
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
	Kind          string `json:"kind"`              // "key", "bearer" or "basic"
	Carrier       string `json:"carrier,omitempty"` // of a key
	Key           string `json:"key,omitempty"`
	Format        string `json:"format,omitempty"` // of a bearer
}

// Const is a constant.
type Const struct {
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"` // why; below, too
	Type          string `json:"type"`
	Value         string `json:"value"` // as the language writes it
}

// Retired is a number or a name that is not to be used again.
type Retired struct {
	Number *int   `json:"number,omitempty"`
	Name   string `json:"name,omitempty"`
}

// Enum is an enum with its members.
type Enum struct {
	Name          string    `json:"name"`
	Documentation string    `json:"documentation,omitempty"`
	Deprecated    string    `json:"deprecated,omitempty"`
	Members       []Member  `json:"members"`
	Retired       []Retired `json:"retired"`
}

// Member is one of the members of an enum.
type Member struct {
	Number        int    `json:"number"`
	Name          string `json:"name"`
	JSON          string `json:"json,omitempty"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
}

// Message is a message, or an error.
type Message struct {
	Name          string    `json:"name"`
	Documentation string    `json:"documentation,omitempty"`
	Deprecated    string    `json:"deprecated,omitempty"`
	Status        int       `json:"status,omitempty"` // of an error
	Stored        bool      `json:"stored"`
	Fields        []Field   `json:"fields"`
	Retired       []Retired `json:"retired"`
}

// Field is a field of a message.
type Field struct {
	Number        int     `json:"number"`
	Name          string  `json:"name"`
	Documentation string  `json:"documentation,omitempty"`
	Deprecated    string  `json:"deprecated,omitempty"`
	Type          string  `json:"type"`     // with full names
	Presence      string  `json:"presence"` // "required", "optional" or "defaulted"
	Default       string  `json:"default,omitempty"`
	JSON          string  `json:"json,omitempty"`
	Secret        bool    `json:"secret"` // its own mark, or its type's
	Bounds        *Bounds `json:"bounds,omitempty"`
	In            *Mark   `json:"in,omitempty"`
}

// Mark is where a field is said to travel in the definitions.
type Mark struct {
	Place string `json:"place"` // "query", "header", "cookie" or "body"
	Name  string `json:"name"`
}

// Service is a service with its calls.
type Service struct {
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
	Calls         []Call `json:"calls"`
}

// Call is one call of a service.
type Call struct {
	Name          string     `json:"name"`
	Documentation string     `json:"documentation,omitempty"`
	Deprecated    string     `json:"deprecated,omitempty"`
	Method        string     `json:"method"`
	Path          string     `json:"path"`
	Head          string     `json:"head,omitempty"`    // full name; absent where no head comes before a stream
	Request       string     `json:"request,omitempty"` // full name; absent for ()
	Answer        string     `json:"answer,omitempty"`
	RequestStream bool       `json:"request_stream"`
	AnswerStream  bool       `json:"answer_stream"`
	Status        int        `json:"status,omitempty"` // of success, where one is given
	Places        []Place    `json:"places"`
	AnswerPlaces  []Place    `json:"answer_places"`
	Fails         []string   `json:"fails"`
	Needs         [][]string `json:"needs"` // one of these, of it all; [] for nothing
	Safe          bool       `json:"safe"`
	Idempotent    bool       `json:"idempotent"`
}

// Place says where a field of a request or an answer travels.
type Place struct {
	Field string `json:"field"`
	Place string `json:"place"` // "path", "query", "header", "cookie", "body" or "raw"
	Name  string `json:"name"`
}
