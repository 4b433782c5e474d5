// Reads payloads from a file, with what the reference made of them, and holds the
// generated readers against that.
package main

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"

	"truth/gen/faithful/wire"
)

type message interface {
	MarshalBinary() ([]byte, error)
	UnmarshalBinary(data []byte) error
	MarshalJSON() ([]byte, error)
	UnmarshalJSON(data []byte) error
	Validate() error
}

type vector struct {
	Message    string
	Encoding   string
	Payload    string
	Accepted   bool
	CBOR       *string
	JSON       *string
	Why        string
	Violations []struct{ Pointer, Detail string }
}

// disagreement says what is wrong with a payload, or "".
func disagreement(v vector, payload []byte) string {
	m := messages[v.Message]()
	read := m.UnmarshalBinary
	if v.Encoding == "json" {
		read = m.UnmarshalJSON
	}
	err := read(payload)
	switch {
	case !v.Accepted && err == nil:
		return "taken; the reference: " + v.Why
	case !v.Accepted:
		return ""
	case err != nil:
		return "refused: " + err.Error()
	}
	if b, err := m.MarshalBinary(); (err == nil) != (v.CBOR != nil) || err == nil && hex.EncodeToString(b) != *v.CBOR {
		return fmt.Sprintf("writes %x", b)
	}
	if b, err := m.MarshalJSON(); (err == nil) != (v.JSON != nil) || err == nil && string(b) != *v.JSON {
		return fmt.Sprintf("writes %s", b)
	}
	var invalid *wire.InvalidRequest
	found := []wire.Violation(nil)
	if errors.As(m.Validate(), &invalid) {
		found = invalid.Violations
	}
	if len(found) != len(v.Violations) {
		return fmt.Sprintf("violates %v", found)
	}
	for i, x := range found {
		if x.Pointer != v.Violations[i].Pointer || x.Detail != v.Violations[i].Detail {
			return fmt.Sprintf("violates %v", found)
		}
	}
	return ""
}

func main() {
	text, err := os.ReadFile(os.Args[1])
	if err != nil {
		panic(err)
	}
	var list []vector
	if err := json.Unmarshal(text, &list); err != nil {
		panic(err)
	}
	bad := 0
	for _, v := range list {
		payload, _ := hex.DecodeString(v.Payload)
		if problem := disagreement(v, payload); problem != "" {
			bad++
			fmt.Printf("%s as %s: %s %q\n  %s\n", v.Message, v.Encoding, v.Payload, payload, problem)
		}
	}
	if bad > 0 {
		fmt.Printf("%d of %d payloads disagree\n", bad, len(list))
		os.Exit(1)
	}
	fmt.Printf("%d payloads agree\n", len(list))
}
