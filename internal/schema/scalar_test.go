package schema

import (
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestDecimalsAreNumbers holds decimals against exact fractions: what is read
// is the number that stands there, refused only when it needs too many digits,
// and the order is the order of numbers.
func TestDecimalsAreNumbers(t *testing.T) {
	text := rapid.StringMatching(`-?(0|[1-9][0-9]{0,19})(\.[0-9]{1,20})?([eE][+-]?[0-9]{1,2})?`)
	read := func(t *rapid.T, name string) (Decimal, *big.Rat, bool) {
		s := text.Draw(t, name)
		exact, ok := new(big.Rat).SetString(s)
		require.True(t, ok, s)
		d, err := ParseDecimal(s)
		if err != nil {
			negativeZero := exact.Sign() == 0 && s[0] == '-'
			scaled := new(big.Rat).Mul(exact, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10),
				big.NewInt(MaxDecimalDigits), nil)))
			coarse := len(strings.TrimLeft(strings.NewReplacer(".", "", "-", "").Replace(strings.ToLower(s)), "0")) > 0 &&
				!scaled.IsInt()
			digits := 0
			if exact.Sign() != 0 {
				// As written: the digits of the mantissa, and those that an exponent adds.
				mantissa, exponent, _ := strings.Cut(strings.ToLower(strings.TrimPrefix(s, "-")), "e")
				whole, fraction, _ := strings.Cut(mantissa, ".")
				e, _ := strconv.Atoi(exponent)
				digits = len(strings.TrimLeft(whole+fraction, "0")) + max(0, e-len(fraction))
			}
			require.True(t, negativeZero || coarse || digits > MaxDecimalDigits, "%s is refused: %v", s, err)
			return Decimal{}, nil, false
		}
		again, ok := new(big.Rat).SetString(d.String())
		require.True(t, ok, d)
		require.Zero(t, exact.Cmp(again), "%s is read as %s", s, d)
		same, err := ParseDecimal(d.String())
		require.NoError(t, err)
		require.Equal(t, d, same, "the written form keeps the scale")
		return d, exact, true
	}
	rapid.Check(t, func(t *rapid.T) {
		a, x, ok := read(t, "a")
		b, y, alsoOK := read(t, "b")
		if ok && alsoOK {
			require.Equal(t, x.Cmp(y), a.Compare(b), "%s and %s", a, b)
		}
	})
	for text, want := range map[string]string{
		"1.50": "1.50", "-0.0": "a decimal has no -0", "1e2": "100", "1.5e-3": "0.0015",
		"0e-40": "0." + strings.Repeat("0", 34),
		"1e34":  errDecimalLong.Error(), "1e99999999999": "the exponent of a decimal is -34 to 0", "01": errDecimal.Error(),
		".5": errDecimal.Error(),
		"1.": errDecimal.Error(), "1e": errDecimal.Error(), "1e+-2": errDecimal.Error(), "+1": errDecimal.Error(),
		"": errDecimal.Error(), "NaN": errDecimal.Error(),
	} {
		d, err := ParseDecimal(text)
		got := d.String()
		if err != nil {
			got = err.Error()
		}
		assert.Equal(t, want, got, text)
	}
	assert.Equal(t, "0", fmt.Sprint(Decimal{}.Big()), "the zero Decimal is a 0")
}

// TestTimesAreThoseOfTheCalendar holds dates, instants and durations against
// the standard library's, at random and at their ends.
func TestTimesAreThoseOfTheCalendar(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		day := rapid.Int32Range(int32(MinDate), int32(MaxDate)).Draw(t, "day")
		date := Date(day)
		want := time.Unix(int64(day)*86400, 0).UTC()
		require.Equal(t, want.Format(time.DateOnly), date.String())
		read, err := ParseDate(date.String())
		require.NoError(t, err)
		require.Equal(t, date, read)

		offset := rapid.IntRange(-23*60, 23*60).Draw(t, "offset")
		digits := rapid.IntRange(0, 9).Draw(t, "digits")
		nanos := rapid.Int64Range(0, 999_999_999).Draw(t, "nanos")
		for range 9 - digits {
			nanos -= nanos % 10
			nanos /= 10
		}
		for range 9 - digits {
			nanos *= 10
		}
		moment := want.Add(time.Duration(rapid.IntRange(0, 86399).Draw(t, "second"))*time.Second + time.Duration(nanos))
		local := moment.In(time.FixedZone("", offset*60))
		instant, err := ParseInstant(local.Format(time.RFC3339Nano))
		if local.Year() > 9999 {
			require.Error(t, err, "five digits of a year")
			return
		}
		require.NoError(t, err, local)
		require.Equal(t, moment.Format(time.RFC3339Nano), instant.String())
		later, err := ParseInstant(instant.String())
		require.NoError(t, err)
		require.Zero(t, instant.Compare(later), "UTC and an offset are one instant")

		span := Duration(rapid.Int64().Draw(t, "span"))
		again, err := ParseDuration(span.String())
		require.NoError(t, err, span)
		require.Equal(t, span, again)
	})
	for text, want := range map[string]string{
		"PT1H30M": "PT5400S", "P1DT0.5S": "PT86400.5S", "-PT1S": "-PT1S", "PT0S": "PT0S", "P2D": "PT172800S",
		"P1M": "", "P1Y": "", "P1W": "", "PT": "", "P": "", "P1DT": "", "PT1.5H": "", "PT1S1M": "", "1S": "",
		"PT1.0000000001S": "", "P999999D": "",
	} {
		d, err := ParseDuration(text)
		if want == "" {
			assert.Error(t, err, "%s is %v", text, d)
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, d.String(), text)
	}
	for _, text := range []string{"2026-02-29", "2026-13-01", "0000-01-01", "2026-1-01", "2026-01-01T00:00:00Z",
		"26-01-01", ""} {
		_, err := ParseDate(text)
		assert.Error(t, err, text)
	}
	for _, text := range []string{"2026-06-30T23:59:60Z", "2026-01-01T24:00:00Z", "2026-01-01 00:00:00Z",
		"2026-01-01T00:00:00", "2026-01-01T00:00:00.Z", "2026-01-01T00:00:00.1234567890Z", "0001-01-01T00:00:00+00:01",
		"2026-01-01T00:00:00+24:00"} {
		_, err := ParseInstant(text)
		assert.Error(t, err, text)
	}
	for x, want := range map[float64]string{1e21: "1e+21", 1e20: "100000000000000000000", 1e-6: "0.000001", 1e-7: "1e-7",
		math.Copysign(0, -1): "-0", 5e-324: "5e-324", 0.1: "0.1", 123456.5: "123456.5"} {
		assert.Equal(t, want, FloatText(x))
	}
}
