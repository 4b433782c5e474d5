package wire

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUUIDs(t *testing.T) {
	const text = "0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"
	u, err := ParseUUID(strings.ToUpper(text))
	require.NoError(t, err)
	assert.Equal(t, text, u.String())
	assert.Equal(t, u, MustUUID(text))
	for _, bad := range []string{"", text + "0", text[1:], strings.Replace(text, "-", "0", 1),
		strings.Replace(text, "b", "g", 1)} {
		_, err := ParseUUID(bad)
		assert.Error(t, err, bad)
		assert.Panics(t, func() { MustUUID(bad) })
	}
}

func TestInstants(t *testing.T) {
	for in, want := range map[string]string{
		"2026-07-15T09:30:00+02:00": "2026-07-15T07:30:00Z", "2024-02-29T23:59:59.120000000Z": "2024-02-29T23:59:59.12Z",
		"1969-12-31T23:59:59.999999999Z": "1969-12-31T23:59:59.999999999Z", "0001-01-01T00:00:00Z": "0001-01-01T00:00:00Z",
		"9999-12-31T23:59:59-00:00": "9999-12-31T23:59:59Z",
	} {
		at := MustInstant(in)
		assert.Equal(t, want, string(appendInstantText(nil, at)))
		reference, err := time.Parse(time.RFC3339Nano, in)
		require.NoError(t, err)
		assert.True(t, reference.Equal(at), "the standard library agrees on %s", in)
	}
	for _, bad := range []string{"", "2023-02-29T00:00:00Z", "2026-00-01T00:00:00Z", "2026-07-32T00:00:00Z",
		"2026-07-15T24:00:00Z", "2026-07-15T09:60:00Z", "2026-07-15T09:30:60Z", "2026-07-15T09:30:00",
		"2026-07-15T09:30:00.Z",
		"2026-07-15T09:30:00.0123456789Z", "2026-07-15T09:30:00+24:00", "2026-07-15T09:30:00+0200",
		"0001-01-01T00:00:00+00:01", "x026-07-15T09:30:00Z"} {
		assert.Panics(t, func() { MustInstant(bad) }, bad)
	}
	var w Writer
	AppendInstant(nil, time.Unix(maxSeconds+1, 0), &w)
	assert.ErrorContains(t, w.Err(), "outside the years")
}

func TestIntegers(t *testing.T) {
	for in, want := range map[string]uint64{"0": 0, "7": 7, "-7": 7, "18446744073709551615": math.MaxUint64,
		"-9223372036854775808": 1 << 63} {
		n, minus, ok := parseInteger([]byte(in), true)
		assert.True(t, ok, in)
		assert.Equal(t, want, n)
		assert.Equal(t, in[0] == '-', minus)
	}
	for _, bad := range []string{"", "-", "00", "01", "-0", "1.0", "1e1", "+1", "18446744073709551616",
		"99999999999999999999", "184467440737095516150"} {
		_, _, ok := parseInteger([]byte(bad), true)
		assert.False(t, ok, bad)
	}
	n, minus, ok := parseInteger([]byte("-0"), false)
	assert.True(t, ok && n == 0 && !minus, "as a number it is 0")
}

func TestPathsAndEnums(t *testing.T) {
	assert.Equal(t, "/a/b~1c~0d/3", Index(Step("/a", "b/c~d"), 3))
	e := &Error{Path: "/a", Detail: "is wrong", Offset: 4}
	assert.Equal(t, "/a: is wrong (byte 4)", e.Error())
	assert.Equal(t, "payload: is wrong", (&Error{Detail: "is wrong", Offset: -1}).Error())
	assert.Equal(t, "/a is wrong; /b too", (&InvalidRequest{Violations: []Violation{{Pointer: "/a", Detail: "is wrong"},
		{Pointer: "/b", Detail: "too"}}}).Error())
	for in, want := range map[string]bool{"#0": true, "#65535": true, "#65536": false, "#": false, "7": false,
		"#-1": false} {
		_, ok := ParseUnlistedNumber(in)
		assert.Equal(t, want, ok, in)
	}
	assert.Equal(t, "#7", UnlistedNumber(7))
	var w Writer
	assert.Equal(t, `7"sun"`, string(AppendUnlisted(AppendUnlisted(nil, "Deck", "#7", &w), "Deck", "?sun", &w)))
	require.NoError(t, w.Err())
	AppendUnlisted(nil, "Deck", "", &w)
	assert.ErrorContains(t, w.Err(), "Deck is not set")
	assert.Equal(t, []Entry[string, int]{{"b", 4}, {"z", 2}, {"aa", 3}, {"ab", 1}},
		SortedTexts(nil, map[string]int{"ab": 1, "z": 2, "aa": 3, "b": 4}))
	many := map[string]int{}
	for i := range 100 {
		many[strings.Repeat("x", i%7)+strconv.Itoa(i)] = i
	}
	sorted := SortedTexts(nil, many)
	require.Len(t, sorted, 100)
	assert.True(t, slices.IsSortedFunc(sorted, func(a, b Entry[string, int]) int { return compareTexts(a.Key, b.Key) }))
}

func TestBase64(t *testing.T) {
	for in, want := range map[string]string{"": "", "YQ": "a", "YQ==": "a", "YWI=": "ab", "-_8": "\xfb\xff",
		"+/8=": "\xfb\xff", "-/8": "\xfb\xff"} {
		got, ok := decodeBase64([]byte(in))
		assert.True(t, ok, in)
		assert.Equal(t, want, string(got))
	}
	for _, bad := range []string{"Y", "YR", "YQ=", "YQ===", "=", "Y Q", "YQ\n"} {
		_, ok := decodeBase64([]byte(bad))
		assert.False(t, ok, bad)
	}
}
