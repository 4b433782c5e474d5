package schema

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/source"
)

// checkFinite refuses messages that no finite value can satisfy: those that
// contain themselves through required fields alone. Lists and maps may be
// empty, optional and defaulted fields left out, so they end every chain.
func checkFinite(d *Definitions, findings *source.Findings) {
	const (
		unseen = iota
		open
		done
	)
	state := map[*Message]int{}
	var chain []*Field
	var visit func(m *Message)
	visit = func(m *Message) {
		state[m] = open
		for _, f := range m.Fields {
			if f.Presence != Required || f.Type.Kind != KindMessage {
				continue
			}
			chain = append(chain, f)
			switch state[f.Type.Message] {
			case unseen:
				visit(f.Type.Message)
			case open:
				reportCycle(chain, f.Type.Message, findings)
			}
			chain = chain[:len(chain)-1]
		}
		state[m] = done
	}
	for _, mod := range d.Modules {
		for _, m := range mod.Messages {
			if state[m] == unseen {
				visit(m)
			}
		}
	}
}

func reportCycle(chain []*Field, start *Message, findings *source.Findings) {
	first := len(chain) - 1
	for chain[first].Message != start {
		first--
	}
	var steps []string
	for _, f := range chain[first:] {
		steps = append(steps, f.Message.Name+"."+f.Name)
	}
	last := chain[len(chain)-1]
	message := fmt.Sprintf("%s can never be written: it always holds another %s", start.Name, start.Name)
	if len(steps) > 1 {
		message += " (" + strings.Join(steps, " → ") + ")"
	}
	findings.Add(source.Finding{Name: "endless-type", Place: last.Place, Message: message,
		Mend: fmt.Sprintf("make one of these fields optional, such as: %s %s?", last.Name, last.Type.Local(last.Message.Module))})
}
