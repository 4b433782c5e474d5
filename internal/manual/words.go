package manual

import (
	"fmt"
	"strconv"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
)

// carried is how a scalar travels, in CBOR (RFC 8949) and in JSON (RFC 8259).
type carried struct{ cbor, json string }

// scalars has a row for each scalar; a test walks it.
var scalars = map[schema.Kind]carried{
	schema.KindBool:     {"true or false", "true or false"},
	schema.KindInt8:     {"integer", "number"},
	schema.KindInt16:    {"integer", "number"},
	schema.KindInt32:    {"integer", "number"},
	schema.KindInt64:    {"integer", "number, beyond 2^53 a string"},
	schema.KindUint8:    {"integer", "number"},
	schema.KindUint16:   {"integer", "number"},
	schema.KindUint32:   {"integer", "number"},
	schema.KindUint64:   {"integer", "number, beyond 2^53 a string"},
	schema.KindFloat32:  {"float", "number"},
	schema.KindFloat64:  {"float", "number"},
	schema.KindText:     {"text", "string"},
	schema.KindBytes:    {"byte string", "string, base64url"},
	schema.KindUUID:     {"tag 37, byte string", "string, 8-4-4-4-12"},
	schema.KindInstant:  {"tag 1 or 1001", "string, RFC 3339"},
	schema.KindDecimal:  {"tag 4", "string"},
	schema.KindDate:     {"tag 100", "string, YYYY-MM-DD"},
	schema.KindDuration: {"tag 1002", "string, such as PT90S"},
	schema.KindAny:      {"anything", "anything"},
}

// encodings is how values of a type travel.
func encodings(t *schema.Type) carried {
	switch t.Kind {
	case schema.KindList:
		return carried{"array", "array"}
	case schema.KindMap, schema.KindMessage, schema.KindUnion:
		return carried{"map", "object"}
	case schema.KindEnum:
		return carried{"integer", "string"}
	}
	return scalars[t.Kind]
}

// inWords says what bounds ask of values of a type, a phrase each.
func inWords(b *schema.Bounds, t *schema.Type) (phrases []string) {
	if b == nil {
		return nil
	}
	switch low, high := b.Low, b.High; {
	case low != nil && high != nil:
		phrases = append(phrases, schema.LiteralText(low)+" to "+schema.LiteralText(high))
	case low != nil:
		phrases = append(phrases, "at least "+schema.LiteralText(low))
	case high != nil:
		phrases = append(phrases, "at most "+schema.LiteralText(high))
	}
	unit := "character"
	if t.Kind == schema.KindBytes {
		unit = "byte"
	}
	phrases = append(phrases, many(b.Length, unit, "s")...)
	if t.Kind == schema.KindMap {
		phrases = append(phrases, many(b.Count, "entr", "ies")...)
	} else {
		phrases = append(phrases, many(b.Count, "element", "s")...)
	}
	if b.Unique {
		phrases = append(phrases, "no two equal")
	}
	return phrases
}

// many says how many there may be of what one is called with and several are.
func many(l *schema.Limits, noun, plural string) []string {
	if l == nil {
		return nil
	}
	of := func(n uint64) string {
		if n == 1 && plural == "ies" {
			return noun + "y"
		} else if n == 1 {
			return noun
		}
		return noun + plural
	}
	switch {
	case l.Low == l.High:
		return []string{fmt.Sprintf("exactly %d %s", l.Low, of(l.Low))}
	case l.High == schema.Unlimited:
		return []string{fmt.Sprintf("at least %d %s", l.Low, of(l.Low))}
	case l.Low == 0:
		return []string{fmt.Sprintf("at most %d %s", l.High, of(l.High))}
	}
	return []string{fmt.Sprintf("%d to %d %s", l.Low, l.High, of(l.High))}
}

// needs says what callers have to show.
func needs(c *schema.Call) string {
	if len(c.Needs) == 0 {
		return ""
	}
	text := ""
	for i, all := range c.Needs {
		if i > 0 {
			text += ", or "
		}
		for j, one := range all {
			if j > 0 {
				text += " and "
			}
			text += one.Name
		}
		if len(all) == 0 {
			text += "nothing"
		}
	}
	return text
}

// repeats says whether clients may send a call again.
func repeats(c *schema.Call) string {
	switch {
	case c.RequestStream:
		return "A client sends it once: a stream can't be repeated."
	case c.Safe:
		return "It changes nothing, so clients may repeat it."
	case c.Idempotent:
		return "Sent twice it does what it does once, so clients may repeat it."
	}
	return "A client sends it once: twice it might act twice."
}

// streams says how the elements of a call travel; "" where it has none.
func streams(c *schema.Call) string {
	switch {
	case conversation.BothWays(c):
		return "Both sides send elements when they like, over a WebSocket, until each has said that it ends."
	case c.RequestStream:
		return "The client sends elements one after the other, and is answered once, when it has said that they end."
	case c.ResponseStream:
		return "The server answers with elements, as they come, and says when they end: without that, some were lost."
	}
	return ""
}

// statusText is what an answer of success has as status.
func statusText(c *schema.Call) string {
	if conversation.BothWays(c) {
		return "101, then elements"
	}
	return strconv.Itoa(conversation.Status(c))
}

// size says how long a payload is.
func size(payload []byte) string {
	if len(payload) == 1 {
		return "1 byte"
	}
	return fmt.Sprintf("%d bytes", len(payload))
}
