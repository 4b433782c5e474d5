package schema

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"
)

// UUID is a uuid's 16 bytes.
type UUID [16]byte

// String writes the uuid in its text form, lower case.
func (u UUID) String() string {
	h := hex.EncodeToString(u[:])
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

// ParseUUID reads 8-4-4-4-12 hexadecimal digits of either case (RFC 9562,
// section 4).
func ParseUUID(s string) (UUID, error) {
	var u UUID
	if len(s) != 36 || s[8] != '-' || s[13] != '-' || s[18] != '-' || s[23] != '-' {
		return u, fmt.Errorf("a uuid is written as 8-4-4-4-12 hexadecimal digits")
	}
	if _, err := hex.Decode(u[:], []byte(strings.ReplaceAll(s, "-", ""))); err != nil {
		return u, fmt.Errorf("a uuid is written as 8-4-4-4-12 hexadecimal digits")
	}
	return u, nil
}

// Instant is a point in time: seconds since 1970-01-01T00:00:00Z and
// nanoseconds from 0 to 999,999,999 after that.
type Instant struct {
	Seconds int64
	Nanos   int32
}

// The first and the last second of the years 0001 to 9999.
const (
	MinInstantSeconds = -62135596800
	MaxInstantSeconds = 253402300799
)

// ParseInstant reads an RFC 3339 time with any offset and 0 to 9 digits of a
// fraction. Leap seconds and years outside 0001 to 9999 are refused.
func ParseInstant(s string) (Instant, error) {
	wrong := fmt.Errorf("an instant is written as in 2026-07-15T09:30:00Z")
	// time.Parse is laxer than RFC 3339: it takes commas and single digits.
	if len(s) < 20 || s[10] != 'T' || strings.Contains(s, ",") || s[13] != ':' || s[16] != ':' {
		return Instant{}, wrong
	}
	if s[19] == '.' {
		digits := strings.IndexAny(s[20:], "Z+-")
		if digits < 1 || digits > 9 {
			return Instant{}, wrong
		}
	}
	if last := s[len(s)-1]; last != 'Z' {
		offset := s[max(19, len(s)-6):]
		if len(offset) != 6 || offset[0] != '+' && offset[0] != '-' || offset[1:3] > "23" || offset[4:6] > "59" {
			return Instant{}, wrong
		}
	}
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return Instant{}, wrong
	}
	i := Instant{Seconds: t.Unix(), Nanos: int32(t.Nanosecond())}
	if i.Seconds < MinInstantSeconds || i.Seconds > MaxInstantSeconds {
		return Instant{}, fmt.Errorf("an instant lies in the years 0001 to 9999")
	}
	return i, nil
}

// String writes the instant as RFC 3339 in UTC with the shortest exact
// fraction.
func (i Instant) String() string {
	return time.Unix(i.Seconds, int64(i.Nanos)).UTC().Format("2006-01-02T15:04:05.999999999Z")
}
