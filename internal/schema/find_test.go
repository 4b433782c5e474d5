package schema

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFind(t *testing.T) {
	defs, findings := load(t, "module a.m enum Deck { #0 open } message Booking { #1 deck [Deck] #2 again Booking? } "+
		"error Full 409 { } service Bookings { call book(Booking) -> Booking fails Full }",
		"module b const OPEN bool = true message Booking { }")
	require.Empty(t, findings)
	names := func(found []Element) (list []string) {
		for _, n := range found {
			list = append(list, n.FullName())
		}
		return list
	}
	for name, want := range map[string][]string{
		"Deck": {"a.m.Deck"}, "a.m.Booking": {"a.m.Booking"}, "Booking": {"a.m.Booking", "b.Booking"},
		"m.Booking": {"a.m.Booking"}, "Booking.deck": {"a.m.Booking.deck"}, "open": {"a.m.Deck.open"},
		"Bookings.book": {"a.m.Bookings.book"}, "book": {"a.m.Bookings.book"}, "a.m": {"a.m"}, "OPEN": {"b.OPEN"},
		"ooking": nil, "": nil,
	} {
		assert.Equal(t, want, names(defs.Find(name)), name)
	}
	assert.Equal(t, []Use{{"a.m.Booking.deck", "element of field"}}, defs.UsedBy(defs.Find("Deck")[0]))
	assert.Equal(t, []Use{{"a.m.Booking.again", "field"}, {"a.m.Bookings.book", "request"},
		{"a.m.Bookings.book", "answer"}}, defs.UsedBy(defs.Find("m.Booking")[0]))
	assert.Equal(t, []Use{{"a.m.Bookings.book", "error"}}, defs.UsedBy(defs.Find("Full")[0]))
	assert.Empty(t, defs.UsedBy(defs.Find("b.Booking")[0]))
	assert.Equal(t, "enum Deck {\n  #0 open\n}\n", Text(defs.Find("Deck")[0].(Declaration)))
	assert.Equal(t, "const OPEN bool = true\n", Text(defs.Find("OPEN")[0].(Declaration)))
}

func TestRanges(t *testing.T) {
	for k, want := range map[Kind][2]string{KindInt8: {"-128", "127"}, KindUint8: {"0", "255"},
		KindInt64: {"-9223372036854775808", "9223372036854775807"}, KindUint64: {"0", "18446744073709551615"}} {
		for i, digits := range want {
			_, ok := ParseInteger(k, digits)
			assert.True(t, ok, "%s %s", k, digits)
			if i == 1 {
				_, ok = ParseInteger(k, digits+"0")
				assert.False(t, ok)
			}
		}
	}
	for _, bad := range []string{"-129", "128", "1.0", "", "x"} {
		_, ok := ParseInteger(KindInt8, bad)
		assert.False(t, ok, bad)
	}
}
