package wire

import (
	"encoding/hex"
	"errors"
	"strconv"
	"time"
)

// The first and the last second of the years 0001 to 9999.
const (
	minSeconds = -62135596800
	maxSeconds = 253402300799
)

// UUID is a uuid (RFC 9562).
type UUID [16]byte

// String writes 8-4-4-4-12 hexadecimal digits, lower case.
func (u UUID) String() string { return string(appendUUIDText(nil, u)) }

// ParseUUID reads what String writes, in either case.
func ParseUUID(s string) (UUID, error) {
	if u, ok := parseUUID([]byte(s)); ok {
		return u, nil
	}
	return UUID{}, errors.New("a uuid is written as 8-4-4-4-12 hexadecimal digits")
}

// MustUUID is ParseUUID for constants; it panics on what is no uuid.
func MustUUID(s string) UUID {
	u, err := ParseUUID(s)
	if err != nil {
		panic(err)
	}
	return u
}

// MustInstant reads an RFC 3339 constant; it panics on what is none.
func MustInstant(s string) time.Time {
	t, ok := parseInstant([]byte(s))
	if !ok {
		panic("not an instant: " + s)
	}
	return t
}

// Pointer returns a pointer to v, for optional and defaulted fields.
func Pointer[T any](v T) *T { return &v }

// UnlistedNumber is the text of an enum value that has a number only.
func UnlistedNumber(number uint16) string { return "#" + strconv.Itoa(int(number)) }

// ParseUnlistedNumber reads what UnlistedNumber writes.
func ParseUnlistedNumber(s string) (uint16, bool) {
	if len(s) < 2 || s[0] != '#' {
		return 0, false
	}
	n, err := strconv.ParseUint(s[1:], 10, 16)
	return uint16(n), err == nil
}

func appendUUIDText(b []byte, u UUID) []byte {
	b = append(hex.AppendEncode(b, u[:4]), '-')
	b = append(hex.AppendEncode(b, u[4:6]), '-')
	b = append(hex.AppendEncode(b, u[6:8]), '-')
	b = append(hex.AppendEncode(b, u[8:10]), '-')
	return hex.AppendEncode(b, u[10:])
}

func parseUUID(s []byte) (u UUID, ok bool) {
	if len(s) != 36 || s[8] != '-' || s[13] != '-' || s[18] != '-' || s[23] != '-' {
		return u, false
	}
	out := u[:0]
	for _, part := range [5][2]int{{0, 8}, {9, 13}, {14, 18}, {19, 23}, {24, 36}} {
		for i := part[0]; i < part[1]; i += 2 {
			high, low := hexDigit(s[i]), hexDigit(s[i+1])
			if high > 15 || low > 15 {
				return u, false
			}
			out = append(out, high<<4|low)
		}
	}
	return u, true
}

func hexDigit(c byte) byte {
	switch {
	case c >= '0' && c <= '9':
		return c - '0'
	case c >= 'a' && c <= 'f':
		return c - 'a' + 10
	case c >= 'A' && c <= 'F':
		return c - 'A' + 10
	}
	return 255
}

// appendInstantText writes RFC 3339 in UTC with the shortest exact fraction.
func appendInstantText(b []byte, t time.Time) []byte {
	t = t.UTC()
	year, month, day := t.Date()
	hour, minute, second := t.Clock()
	b = append(b, byte('0'+year/1000), byte('0'+year/100%10), byte('0'+year/10%10), byte('0'+year%10))
	b = append(b, '-', byte('0'+month/10), byte('0'+month%10), '-', byte('0'+day/10), byte('0'+day%10))
	b = append(b, 'T', byte('0'+hour/10), byte('0'+hour%10), ':', byte('0'+minute/10), byte('0'+minute%10), ':', byte('0'+second/10), byte('0'+second%10))
	if nanos := t.Nanosecond(); nanos != 0 {
		b = append(b, '.')
		for unit := 100_000_000; nanos != 0; unit /= 10 {
			b = append(b, byte('0'+nanos/unit))
			nanos %= unit
		}
	}
	return append(b, 'Z')
}

// parseInstant reads RFC 3339 with any offset and up to 9 digits of fraction.
func parseInstant(s []byte) (time.Time, bool) {
	two := func(i int) int {
		if s[i] < '0' || s[i] > '9' || s[i+1] < '0' || s[i+1] > '9' {
			return -1
		}
		return int(s[i]-'0')*10 + int(s[i+1]-'0')
	}
	if len(s) < 20 || s[4] != '-' || s[7] != '-' || s[10] != 'T' || s[13] != ':' || s[16] != ':' {
		return time.Time{}, false
	}
	century, year := two(0), two(2)
	month, day, hour, minute, second := two(5), two(8), two(11), two(14), two(17)
	if century < 0 || year < 0 || month < 1 || month > 12 || day < 1 || hour < 0 || hour > 23 || minute < 0 || minute > 59 || second < 0 || second > 59 {
		return time.Time{}, false
	}
	year += century * 100
	if day > 28 && day > time.Date(year, time.Month(month)+1, 0, 0, 0, 0, 0, time.UTC).Day() {
		return time.Time{}, false
	}
	nanos, i := 0, 19
	if s[i] == '.' {
		unit := 100_000_000
		for i++; i < len(s) && s[i] >= '0' && s[i] <= '9'; i++ {
			nanos += int(s[i]-'0') * unit
			unit /= 10
		}
		if i == 20 || i > 29 {
			return time.Time{}, false
		}
	}
	offset := 0
	switch {
	case i == len(s)-1 && s[i] == 'Z':
	case i == len(s)-6 && (s[i] == '+' || s[i] == '-') && s[i+3] == ':':
		hours, minutes := two(i+1), two(i+4)
		if hours < 0 || hours > 23 || minutes < 0 || minutes > 59 {
			return time.Time{}, false
		}
		offset = hours*3600 + minutes*60
		if s[i] == '-' {
			offset = -offset
		}
	default:
		return time.Time{}, false
	}
	t := time.Date(year, time.Month(month), day, hour, minute, second-offset, nanos, time.UTC)
	seconds := t.Unix()
	return t, seconds >= minSeconds && seconds <= maxSeconds
}
