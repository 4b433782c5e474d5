package schema

import (
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
)

var (
	errInstant  = errors.New("an instant is written as in 2026-07-15T09:30:00Z")
	errDuration = errors.New("a duration is written as in PT1H30M or PT0.5S")
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
	if len(s) != 36 || strings.Count(s, "-") != 4 || s[8] != '-' || s[13] != '-' || s[18] != '-' || s[23] != '-' {
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
	// time.Parse is laxer than RFC 3339: it takes commas and single digits.
	if len(s) < 20 || s[10] != 'T' || strings.Contains(s, ",") || s[13] != ':' || s[16] != ':' {
		return Instant{}, errInstant
	}
	if s[19] == '.' {
		digits := strings.IndexAny(s[20:], "Z+-")
		if digits < 1 || digits > 9 {
			return Instant{}, errInstant
		}
	}
	if last := s[len(s)-1]; last != 'Z' {
		offset := s[max(19, len(s)-6):]
		if len(offset) != 6 || offset[0] != '+' && offset[0] != '-' || offset[1:3] > "23" || offset[4:6] > "59" {
			return Instant{}, errInstant
		}
	}
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return Instant{}, errInstant
	}
	i := Instant{Seconds: t.Unix(), Nanos: int32(t.Nanosecond())}
	if i.Seconds < MinInstantSeconds || i.Seconds > MaxInstantSeconds {
		return Instant{}, fmt.Errorf("an instant must be in the years 0001 to 9999")
	}
	return i, nil
}

// String writes the instant as RFC 3339 in UTC with the shortest exact
// fraction.
func (i Instant) String() string {
	return time.Unix(i.Seconds, int64(i.Nanos)).UTC().Format("2006-01-02T15:04:05.999999999Z")
}

// Compare returns -1, 0 or 1 as i is before, at or after other.
func (i Instant) Compare(other Instant) int {
	return cmp.Or(cmp.Compare(i.Seconds, other.Seconds), cmp.Compare(i.Nanos, other.Nanos))
}

// Date is a day: days since 1970-01-01, in the years 0001 to 9999.
type Date int32

// The first and the last day of the years 0001 to 9999.
const (
	MinDate Date = MinInstantSeconds / 86400
	MaxDate Date = (MaxInstantSeconds+1)/86400 - 1
)

// ParseDate reads an RFC 3339 full-date.
func ParseDate(s string) (Date, error) {
	t, err := time.Parse(time.DateOnly, s)
	if err != nil || len(s) != len(time.DateOnly) || t.Year() < 1 {
		return 0, fmt.Errorf("a date is written as in 2026-07-15")
	}
	return Date(t.Unix() / 86400), nil
}

// String writes the date as an RFC 3339 full-date.
func (d Date) String() string {
	return time.Unix(int64(d)*86400, 0).UTC().Format(time.DateOnly)
}

// Duration is a length of time in nanoseconds.
type Duration int64

// ParseDuration reads an ISO 8601 duration of days, hours, minutes and
// seconds, in this order, at least one of them, a fraction of up to nine
// digits in the seconds alone.
func ParseDuration(s string) (Duration, error) {
	rest, negative := strings.CutPrefix(s, "-")
	rest, ok := strings.CutPrefix(rest, "P")
	if !ok {
		return 0, errDuration
	}
	days, times, hasTime := strings.Cut(rest, "T")
	if days == "" && !hasTime || hasTime && times == "" {
		return 0, errDuration
	}
	total := new(big.Int)
	add := func(part *string, unit string, nanos int64) bool {
		i := strings.IndexAny(*part, "DHMS")
		if i < 0 || (*part)[i:i+1] != unit {
			return true // another unit, or nothing more
		}
		number := (*part)[:i]
		*part = (*part)[i+1:]
		whole, fraction, hasPoint := strings.Cut(number, ".")
		if !isDigits(whole) || len(whole) > 40 || hasPoint && (unit != "S" || !isDigits(fraction) || len(fraction) > 9) {
			return false
		}
		n, _ := new(big.Int).SetString(whole, 10)
		total.Add(total, n.Mul(n, big.NewInt(nanos)))
		if hasPoint {
			n, _ := new(big.Int).SetString(fraction+strings.Repeat("0", 9-len(fraction)), 10)
			total.Add(total, n)
		}
		return true
	}
	const second = int64(time.Second)
	if !add(&days, "D", 86400*second) || days != "" {
		return 0, errDuration
	}
	if !add(&times, "H", 3600*second) || !add(&times, "M", 60*second) || !add(&times, "S", second) || times != "" {
		return 0, errDuration
	}
	if negative {
		total.Neg(total)
	}
	if !total.IsInt64() {
		return 0, fmt.Errorf("a duration has at most 2⁶³ nanoseconds, about 292 years")
	}
	return Duration(total.Int64()), nil
}

// String writes the duration in seconds alone, with the shortest exact
// fraction.
func (d Duration) String() string {
	sign, n := "", uint64(d)
	if d < 0 {
		sign, n = "-", -n
	}
	text := strconv.FormatUint(n/1e9, 10)
	if fraction := n % 1e9; fraction != 0 {
		text += "." + strings.TrimRight(fmt.Sprintf("%09d", fraction), "0")
	}
	return sign + "PT" + text + "S"
}

// FloatText writes a float64 as ECMAScript prints it, but -0 as "-0".
func FloatText(x float64) string {
	switch {
	case math.IsNaN(x):
		return "NaN"
	case math.IsInf(x, 1):
		return "Infinity"
	case math.IsInf(x, -1):
		return "-Infinity"
	}
	if a := math.Abs(x); a == 0 || a >= 1e-6 && a < 1e21 {
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	text := strconv.FormatFloat(x, 'e', -1, 64)
	// Go writes two digits of exponent at least, ECMAScript one.
	if n := len(text); text[n-2] == '0' && (text[n-3] == '-' || text[n-3] == '+') {
		return text[:n-2] + text[n-1:]
	}
	return text
}
