package wire

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"math/big"
	"math/bits"
	"strconv"
)

// MaxDecimalDigits is how many digits a decimal may have, and how many of
// them after the point.
const MaxDecimalDigits = 34

// Decimal is an exact decimal number that keeps its scale: 1.50 stays 1.50.
// The zero Decimal is 0. Two Decimals are == when number and scale are equal;
// Compare goes by number alone.
type Decimal struct {
	high, low uint64 // of the coefficient, under 10^34
	scale     uint8  // digits after the point, 0 to 34
	negative  bool
}

var (
	errDecimal     = errors.New(`a decimal is written as in "12.50"`)
	errDecimalLong = fmt.Errorf("a decimal has at most %d digits, and as many after the point", MaxDecimalDigits)
	errMinusZero   = errors.New("a decimal has no -0")
)

// NewDecimal returns coefficient divided by ten to the power of scale, 0 to
// 34; it panics on another scale.
func NewDecimal(coefficient int64, scale int) Decimal {
	if scale < 0 || scale > MaxDecimalDigits {
		panic(errDecimalLong)
	}
	d := Decimal{low: uint64(coefficient), scale: uint8(scale), negative: coefficient < 0}
	if d.negative {
		d.low = -d.low
	}
	return d
}

// DecimalOf returns coefficient divided by ten to the power of scale, or an
// error where that has too many digits.
func DecimalOf(coefficient *big.Int, scale int) (Decimal, error) {
	d, ok := makeDecimal(coefficient.Sign() < 0, new(big.Int).Abs(coefficient).Append(nil, 10), -scale)
	if !ok {
		return d, errDecimalLong
	}
	return d, nil
}

// ParseDecimal reads the text of a JSON number (RFC 8259, section 6); -0 and
// more than 34 digits are refused.
func ParseDecimal(s string) (Decimal, error) { return parseDecimal([]byte(s)) }

// MustDecimal is ParseDecimal for constants; it panics on what is not a decimal.
func MustDecimal(s string) Decimal {
	d, err := ParseDecimal(s)
	if err != nil {
		panic(err)
	}
	return d
}

// Scale is how many digits come after the point.
func (d Decimal) Scale() int { return int(d.scale) }

// Coefficient is the number without its point.
func (d Decimal) Coefficient() *big.Int {
	n := new(big.Int).SetUint64(d.high)
	n.Or(n.Lsh(n, 64), new(big.Int).SetUint64(d.low))
	if d.negative {
		n.Neg(n)
	}
	return n
}

// Rat is the number as a fraction, for exact arithmetic.
func (d Decimal) Rat() *big.Rat {
	return new(big.Rat).SetFrac(d.Coefficient(), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(d.scale)), nil))
}

// Sign is -1, 0 or 1.
func (d Decimal) Sign() int {
	switch {
	case d.high == 0 && d.low == 0:
		return 0
	case d.negative:
		return -1
	}
	return 1
}

// Compare returns -1, 0 or 1 as d is less than, equal to or greater than
// other, by number: 1.5 equals 1.50.
func (d Decimal) Compare(other Decimal) int {
	if d.scale == other.scale && d.high == 0 && other.high == 0 && !d.negative && !other.negative {
		switch {
		case d.low < other.low:
			return -1
		case d.low > other.low:
			return 1
		}
		return 0
	}
	return d.Rat().Cmp(other.Rat())
}

// String writes all digits and no exponent.
func (d Decimal) String() string { return string(d.appendText(nil)) }

// appendDigits appends the coefficient without its sign.
func (d Decimal) appendDigits(b []byte) []byte {
	if d.high == 0 {
		return strconv.AppendUint(b, d.low, 10)
	}
	// Under 10^34, so that two halves of at most 19 digits are enough.
	high, low := bits.Div64(d.high, d.low, 1e19)
	b = strconv.AppendUint(b, high, 10)
	for unit := uint64(1e18); unit > 0; unit /= 10 {
		b = append(b, byte('0'+low/unit%10))
	}
	return b
}

func (d Decimal) appendText(b []byte) []byte {
	var space [40]byte
	digits := d.appendDigits(space[:0])
	if d.negative {
		b = append(b, '-')
	}
	whole := len(digits) - int(d.scale)
	switch {
	case d.scale == 0:
		return append(b, digits...)
	case whole <= 0:
		b = append(b, '0', '.')
		for range -whole {
			b = append(b, '0')
		}
		return append(b, digits...)
	}
	return append(append(append(b, digits[:whole]...), '.'), digits[whole:]...)
}

// makeDecimal brings digits and an exponent into the range of decimals, where
// that is exact.
func makeDecimal(negative bool, digits []byte, exponent int) (Decimal, bool) {
	digits = bytes.TrimLeft(digits, "0")
	if len(digits) == 0 {
		return Decimal{scale: uint8(min(max(0, -exponent), MaxDecimalDigits))}, true
	}
	zeros := 0
	if exponent > 0 {
		zeros, exponent = exponent, 0
	}
	if exponent < -MaxDecimalDigits {
		cut := -MaxDecimalDigits - exponent
		if cut >= len(digits) || len(bytes.Trim(digits[len(digits)-cut:], "0")) > 0 {
			return Decimal{}, false
		}
		digits, exponent = digits[:len(digits)-cut], -MaxDecimalDigits
	}
	if len(digits)+zeros > MaxDecimalDigits {
		return Decimal{}, false
	}
	d := Decimal{scale: uint8(-exponent), negative: negative}
	for _, c := range digits {
		d.push(c - '0')
	}
	for range zeros {
		d.push(0)
	}
	return d, true
}

// push adds a digit after the others.
func (d *Decimal) push(digit byte) {
	carry, low := bits.Mul64(d.low, 10)
	var over uint64
	d.low, over = bits.Add64(low, uint64(digit), 0)
	d.high = d.high*10 + carry + over
}

func parseDecimal(s []byte) (Decimal, error) {
	rest, negative := bytes.CutPrefix(s, []byte("-"))
	exponent, fraction, point, digits := 0, 0, false, make([]byte, 0, 48)
	i := 0
	for ; i < len(rest) && rest[i] != 'e' && rest[i] != 'E'; i++ {
		switch c := rest[i]; {
		case c-'0' < 10:
			digits = append(digits, c)
			if point {
				fraction++
			}
		case c == '.' && !point && i > 0:
			point = true
		default:
			return Decimal{}, errDecimal
		}
	}
	if len(digits) == 0 || point && fraction == 0 || digits[0] == '0' && len(digits)-fraction > 1 {
		return Decimal{}, errDecimal
	}
	if i < len(rest) {
		text := rest[i+1:]
		unsigned := bytes.TrimLeft(text, "+-")
		if len(text)-len(unsigned) > 1 || len(unsigned) == 0 || !onlyDigits(string(unsigned)) {
			return Decimal{}, errDecimal
		}
		n, err := strconv.Atoi(string(text))
		if err != nil || n > 1<<20 || n < -1<<20 {
			return Decimal{}, errDecimalLong
		}
		exponent = n
	}
	d, ok := makeDecimal(negative, digits, exponent-fraction)
	switch {
	case !ok:
		return d, errDecimalLong
	case negative && d.Sign() == 0:
		return d, errMinusZero
	}
	return d, nil
}

// AppendDecimal appends tag 4 over exponent and mantissa (RFC 8949, section
// 3.4.4).
func AppendDecimal(b []byte, v Decimal) []byte {
	b = AppendInt(append(b, tag|4, array|2), -int64(v.scale))
	high, low := v.high, v.low
	major, bignum := byte(unsigned), byte(tag|2)
	if v.Sign() < 0 {
		var borrow uint64
		low, borrow = bits.Sub64(low, 1, 0)
		high -= borrow
		major, bignum = negative, tag|3
	}
	if high == 0 {
		return appendHead(b, major, low)
	}
	size := 8 + (bits.Len64(high)+7)/8
	b = append(b, bignum, byteText|byte(size))
	for i := size - 9; i >= 0; i-- {
		b = append(b, byte(high>>(8*i)))
	}
	for i := 7; i >= 0; i-- {
		b = append(b, byte(low>>(8*i)))
	}
	return b
}

// exponent reads an integer; one beyond an int64, which only zero can have, is as far
// out as may be.
func (r *CBORReader) exponent() int64 {
	start := r.at
	first, n := r.head()
	switch first & 0xe0 {
	case unsigned:
		return int64(min(n, math.MaxInt64))
	case negative:
		return -1 - int64(min(n, math.MaxInt64))
	}
	r.wrong(start, first, "an exponent")
	return 0
}

// Decimal reads tag 4 over exponent and mantissa.
func (r *CBORReader) Decimal() Decimal {
	start := r.at
	first, n := r.head()
	if first&0xe0 != tag || n != 4 {
		r.wrong(start, first, "decimal")
		return Decimal{}
	}
	open, n := r.head()
	if open&0xe0 != array || open&31 != indefinite && n != 2 {
		r.wrong(start, open, "an array of exponent and mantissa")
		return Decimal{}
	}
	exponent := r.exponent()
	low, magnitude, minus := r.mantissa(start)
	if open&31 == indefinite {
		if r.at >= len(r.data) || r.data[r.at] != breakByte {
			r.fail(r.at, "expected the end of exponent and mantissa")
			return Decimal{}
		}
		r.at++
	}
	if r.err != nil {
		return Decimal{}
	}
	if exponent <= 0 && exponent >= -MaxDecimalDigits && magnitude == nil {
		return Decimal{low: low, scale: uint8(-exponent), negative: minus}
	}
	if magnitude == nil {
		magnitude = new(big.Int).SetUint64(low)
	}
	if exponent < -1<<20 || exponent > 1<<20 {
		if magnitude.Sign() != 0 {
			r.fail(start, "a decimal with the exponent %d", exponent)
			return Decimal{}
		}
		exponent = max(min(exponent, 0), -MaxDecimalDigits)
	}
	d, ok := makeDecimal(minus, magnitude.Append(nil, 10), int(exponent))
	if !ok {
		r.fail(start, "%s", errDecimalLong)
	}
	return d
}

// mantissa reads an integer or a bignum (RFC 8949, section 3.4.3): its amount
// as low, or as magnitude where that is not nil, and its sign.
func (r *CBORReader) mantissa(start int) (low uint64, magnitude *big.Int, minus bool) {
	first, n := r.head()
	switch {
	case first&0xe0 == unsigned:
		return n, nil, false
	case first&0xe0 == negative && n < math.MaxUint64:
		return n + 1, nil, true
	case first&0xe0 == negative:
		return 0, new(big.Int).Lsh(big.NewInt(1), 64), true
	case first&0xe0 == tag && (n == 2 || n == 3):
		magnitude = new(big.Int).SetBytes(r.chunks(byteText, "the bytes of a bignum"))
		if magnitude.BitLen() > 4096 { // far over 34 digits
			r.fail(start, "%s", errDecimalLong)
		}
		if n == 3 {
			magnitude.Add(magnitude, big.NewInt(1))
		}
		return 0, magnitude, n == 3
	}
	r.wrong(start, first, "a mantissa")
	return 0, nil, false
}

// AppendJSONDecimal appends a decimal as a string.
func AppendJSONDecimal(b []byte, v Decimal, w *Writer) []byte {
	if w.exact {
		return append(b, v.Rat().RatString()...)
	}
	return append(v.appendText(append(b, '"')), '"')
}

// Decimal reads a decimal: a string, or a number by its digits.
func (r *JSONReader) Decimal() Decimal {
	var text []byte
	c := r.peek()
	start := r.at
	if c == '"' {
		text = r.stringBytes()
	} else {
		text = r.number("decimal")
	}
	if r.err != nil {
		return Decimal{}
	}
	d, err := parseDecimal(text)
	if err != nil {
		r.fail(start, "%s, found %s", err, shorten(text))
	}
	return d
}
