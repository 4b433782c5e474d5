package wire

import (
	"errors"
	"math"
	"math/bits"
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

// MustUUID is ParseUUID for constants; it panics on what is not a uuid.
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

// UnlistedName is what an enum's value is called as a key in JSON: a member's
// name as it is, "#7" as 7, "?name" as name.
func UnlistedName(value string) string {
	if value != "" && (value[0] == '#' || value[0] == '?') {
		return value[1:]
	}
	return value
}

// ParseUnlistedNumber reads what UnlistedNumber writes.
func ParseUnlistedNumber(s string) (uint16, bool) {
	if len(s) < 2 || s[0] != '#' {
		return 0, false
	}
	n, err := strconv.ParseUint(s[1:], 10, 16)
	return uint16(n), err == nil
}

func appendUUIDText(b []byte, u UUID) []byte {
	var text [36]byte
	i := 0
	for at, c := range u {
		if at == 4 || at == 6 || at == 8 || at == 10 {
			text[i] = '-'
			i++
		}
		text[i], text[i+1] = "0123456789abcdef"[c>>4], "0123456789abcdef"[c&15]
		i += 2
	}
	return append(b, text[:]...)
}

func parseUUID(s []byte) (u UUID, ok bool) {
	if len(s) != 36 || s[8] != '-' || s[13] != '-' || s[18] != '-' || s[23] != '-' {
		return u, false
	}
	i, wrong := 0, byte(0)
	for at := range u {
		if at == 4 || at == 6 || at == 8 || at == 10 {
			i++ // the hyphen
		}
		high, low := hexDigit(s[i]), hexDigit(s[i+1])
		wrong |= high | low
		u[at] = high<<4 | low
		i += 2
	}
	return u, wrong < 16
}

// hexDigit is the value of a hexadecimal digit, and 255 for other bytes.
func hexDigit(c byte) byte { return hexDigits[c] }

var hexDigits = func() (table [256]byte) {
	for i := range table {
		table[i] = 255
	}
	for i := range byte(16) {
		table["0123456789abcdef"[i]], table["0123456789ABCDEF"[i]] = i, i
	}
	return
}()

// appendInstantText writes RFC 3339 in UTC with the shortest exact fraction.
func appendInstantText(b []byte, t time.Time) []byte {
	t = t.UTC()
	year, month, day := t.Date()
	hour, minute, second := t.Clock()
	b = append(b, byte('0'+year/1000), byte('0'+year/100%10), byte('0'+year/10%10), byte('0'+year%10))
	b = append(b, '-', byte('0'+month/10), byte('0'+month%10), '-', byte('0'+day/10), byte('0'+day%10))
	b = append(b, 'T', byte('0'+hour/10), byte('0'+hour%10), ':', byte('0'+minute/10), byte('0'+minute%10), ':',
		byte('0'+second/10), byte('0'+second%10))
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
	if century < 0 || year < 0 || month < 1 || month > 12 || day < 1 || hour < 0 || hour > 23 || minute < 0 ||
		minute > 59 || second < 0 || second > 59 {
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

// Date is a day: how many days it lies after 1970-01-01.
type Date int32

// The first and the last day of the years 0001 to 9999.
const (
	minDate = minSeconds / 86400
	maxDate = (maxSeconds+1)/86400 - 1
)

// NewDate returns a day of the calendar; months and days beyond theirs carry
// over, as with time.Date.
func NewDate(year int, month time.Month, day int) Date {
	return DateOf(time.Date(year, month, day, 0, 0, 0, 0, time.UTC))
}

// DateOf returns the day on which t lies, in t's own location.
func DateOf(t time.Time) Date {
	_, offset := t.Zone()
	seconds := t.Unix() + int64(offset)
	days := seconds / 86400
	if seconds%86400 < 0 {
		days--
	}
	return Date(days)
}

// ParseDate reads YYYY-MM-DD.
func ParseDate(s string) (Date, error) {
	if d, ok := parseDate([]byte(s)); ok {
		return d, nil
	}
	return 0, errors.New("a date is written as in 2026-07-15")
}

// Time is the begin of the day in UTC.
func (d Date) Time() time.Time { return time.Unix(int64(d)*86400, 0).UTC() }

// String writes YYYY-MM-DD.
func (d Date) String() string { return string(appendDateText(nil, d)) }

func parseDate(s []byte) (Date, bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return 0, false
	}
	digits := func(from, to int) int {
		n := 0
		for _, c := range s[from:to] {
			if c-'0' > 9 {
				return -1
			}
			n = n*10 + int(c-'0')
		}
		return n
	}
	year, month, day := digits(0, 4), digits(5, 7), digits(8, 10)
	if year < 1 || month < 1 || month > 12 || day < 1 || day > 28 &&
		day > time.Date(year, time.Month(month)+1, 0, 0, 0, 0, 0, time.UTC).Day() {
		return 0, false
	}
	return NewDate(year, time.Month(month), day), true
}

func appendDateText(b []byte, d Date) []byte {
	year, month, day := d.Time().Date()
	b = append(b, byte('0'+year/1000), byte('0'+year/100%10), byte('0'+year/10%10), byte('0'+year%10))
	return append(b, '-', byte('0'+month/10), byte('0'+month%10), '-', byte('0'+day/10), byte('0'+day%10))
}

// AppendDate appends tag 100 over the days since 1970-01-01 (RFC 8943).
func AppendDate(b []byte, v Date, w *Writer) []byte {
	if v < minDate || v > maxDate {
		w.fail("a date outside the years 0001 to 9999")
	}
	return AppendInt(append(b, tag|24, 100), int64(v))
}

// Date reads tag 100 (RFC 8943).
func (r *CBORReader) Date() Date {
	start := r.at
	first, n := r.head()
	if first&0xe0 != tag || n != 100 {
		r.wrong(start, first, "date")
		return 0
	}
	days := r.Int64()
	if days < minDate || days > maxDate {
		r.fail(start, "a date outside the years 0001 to 9999")
		return 0
	}
	return Date(days)
}

// AppendJSONDate appends a date as YYYY-MM-DD.
func AppendJSONDate(b []byte, v Date, w *Writer) []byte {
	if v < minDate || v > maxDate {
		return w.failed(b, "a date outside the years 0001 to 9999")
	}
	return append(appendDateText(append(b, '"'), v), '"')
}

// Date reads YYYY-MM-DD.
func (r *JSONReader) Date() Date {
	start := r.at
	if r.peek() != '"' {
		r.wrong("date")
		return 0
	}
	d, ok := parseDate(r.stringBytes())
	if !ok {
		r.fail(start, "expected a date such as 2026-07-15")
	}
	return d
}

// DurationText writes a duration in seconds, as JSON has it.
func DurationText(v time.Duration) string { return string(appendDurationText(nil, v)) }

func appendDurationText(b []byte, v time.Duration) []byte {
	n := uint64(v)
	if v < 0 {
		b, n = append(b, '-'), -n
	}
	b = strconv.AppendUint(append(b, 'P', 'T'), n/1e9, 10)
	if nanos := n % 1e9; nanos != 0 {
		b = append(b, '.')
		for unit := uint64(1e8); nanos != 0; unit /= 10 {
			b = append(b, byte('0'+nanos/unit))
			nanos %= unit
		}
	}
	return append(b, 'S')
}

// parseDuration reads ISO 8601: days, hours, minutes and seconds in order, a
// fraction of up to 9 digits in the seconds alone.
func parseDuration(s []byte) (time.Duration, bool) {
	negative := len(s) > 0 && s[0] == '-'
	if negative {
		s = s[1:]
	}
	if len(s) < 3 || s[0] != 'P' {
		return 0, false
	}
	var high, total uint64 // nanoseconds
	units := []struct {
		letter byte
		nanos  uint64
	}{{'D', 86400e9}, {'H', 3600e9}, {'M', 60e9}, {'S', 1e9}}
	inTime, any := false, false
	for i := 1; i < len(s); {
		if s[i] == 'T' && !inTime && i+1 < len(s) {
			inTime = true
			i++
			continue
		}
		var whole, nanos uint64
		from := i
		for ; i < len(s) && s[i]-'0' < 10; i++ {
			if whole > (1<<63)/10 {
				return 0, false
			}
			whole = whole*10 + uint64(s[i]-'0')
		}
		if i == from || i == len(s) {
			return 0, false
		}
		fraction := s[i] == '.'
		if fraction {
			point := i
			unit := uint64(1e8)
			for i++; i < len(s) && s[i]-'0' < 10; i++ {
				nanos += uint64(s[i]-'0') * unit
				unit /= 10
			}
			if i == point+1 || i > point+10 || i == len(s) {
				return 0, false
			}
		}
		for len(units) > 0 && units[0].letter != s[i] {
			units = units[1:]
		}
		if len(units) == 0 || (s[i] == 'D') == inTime || fraction && s[i] != 'S' {
			return 0, false
		}
		over, amount := bits.Mul64(whole, units[0].nanos)
		var carry uint64
		total, carry = bits.Add64(total, amount, 0)
		high += over + carry
		total, carry = bits.Add64(total, nanos, 0)
		high += carry
		units, any = units[1:], true
		i++
	}
	switch {
	case !any || high > 0:
		return 0, false
	case negative && total <= 1<<63:
		return -time.Duration(total), true
	}
	return time.Duration(total), !negative && total < 1<<63
}

// AppendDuration appends tag 1002 (RFC 9581).
func AppendDuration(b []byte, v time.Duration) []byte {
	seconds, nanos := int64(v)/1e9, int64(v)%1e9
	if nanos < 0 {
		seconds, nanos = seconds-1, nanos+1e9
	}
	b = append(b, tag|25, 1002>>8, 1002&255)
	if nanos == 0 {
		return AppendInt(append(b, mapping|1, 1), seconds)
	}
	return appendFraction(AppendInt(append(b, mapping|2, 1), seconds), nanos)
}

// Duration reads tag 1002 (RFC 9581).
func (r *CBORReader) Duration() time.Duration {
	start := r.at
	first, n := r.head()
	if first&0xe0 != tag || n != 1002 {
		r.wrong(start, first, "duration")
		return 0
	}
	seconds, nanos := r.extendedTime()
	const most = math.MaxInt64 / 1_000_000_000
	total := seconds*1e9 + nanos
	if seconds > most || seconds < -most-1 || seconds == most && total < 0 || seconds == -most-1 && total > 0 {
		r.fail(start, "a duration of over 2⁶³ nanoseconds")
		return 0
	}
	return time.Duration(total)
}

// AppendJSONDuration appends a duration in seconds, such as "PT90S".
func AppendJSONDuration(b []byte, v time.Duration) []byte {
	return append(appendDurationText(append(b, '"'), v), '"')
}

// Duration reads an ISO 8601 duration.
func (r *JSONReader) Duration() time.Duration {
	start := r.at
	if r.peek() != '"' {
		r.wrong("duration")
		return 0
	}
	d, ok := parseDuration(r.stringBytes())
	if !ok {
		r.fail(start, "expected a duration such as PT1.5S")
	}
	return d
}
