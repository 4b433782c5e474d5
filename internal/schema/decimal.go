package schema

import (
	"errors"
	"fmt"
	"math/big"
	"strconv"
	"strings"
)

// MaxDecimalDigits is how many digits a decimal may have, and how many of them
// after the point.
const MaxDecimalDigits = 34

// Decimal is an exact decimal number that keeps its scale: Coefficient times
// ten to the power of -Scale. Coefficient is digits without leading zeros, "-"
// before them for a negative one; Scale is 0 to 34. Two Decimals are == when
// number and scale are equal; Compare goes by number alone.
type Decimal struct {
	Coefficient string
	Scale       int
}

var (
	errDecimal     = errors.New(`a decimal is written as in "12.50"`)
	errDecimalLong = fmt.Errorf("a decimal has at most %d digits, and as many after the point", MaxDecimalDigits)
)

// ParseDecimal reads a decimal in the form of a JSON number (RFC 8259, section
// 6). An exponent outside of the range is brought into it when that is exact;
// more than 34 digits and -0 are refused.
func ParseDecimal(s string) (Decimal, error) {
	rest, negative := strings.CutPrefix(s, "-")
	mantissa, exponentText := rest, ""
	if i := strings.IndexAny(rest, "eE"); i >= 0 {
		mantissa, exponentText = rest[:i], rest[i+1:]
		if digits := strings.TrimLeft(exponentText, "+-"); !isDigits(digits) || len(exponentText)-len(digits) > 1 {
			return Decimal{}, errDecimal
		}
	}
	whole, fraction, hasPoint := strings.Cut(mantissa, ".")
	if !isDigits(whole) || len(whole) > 1 && whole[0] == '0' || hasPoint && !isDigits(fraction) {
		return Decimal{}, errDecimal
	}
	exponent := 0
	if exponentText != "" {
		e, err := strconv.Atoi(exponentText)
		if err != nil || e > 1<<20 || e < -1<<20 {
			return Decimal{}, fmt.Errorf("the exponent of a decimal is -%d to 0", MaxDecimalDigits)
		}
		exponent = e
	}
	coefficient := strings.TrimLeft(whole+fraction, "0")
	if coefficient == "" && negative {
		return Decimal{}, fmt.Errorf("a decimal has no -0")
	}
	return MakeDecimal(negative, coefficient, exponent-len(fraction))
}

// MakeDecimal brings digits (without leading zeros, "" for 0) and an exponent
// into the range of decimals.
func MakeDecimal(negative bool, digits string, exponent int) (Decimal, error) {
	if digits == "" {
		return Decimal{Coefficient: "0", Scale: min(max(0, -exponent), MaxDecimalDigits)}, nil
	}
	if exponent > 0 {
		if len(digits)+exponent > MaxDecimalDigits {
			return Decimal{}, errDecimalLong
		}
		digits += strings.Repeat("0", exponent)
		exponent = 0
	}
	if exponent < -MaxDecimalDigits {
		cut := -MaxDecimalDigits - exponent
		if cut >= len(digits) || strings.Trim(digits[len(digits)-cut:], "0") != "" {
			return Decimal{}, errDecimalLong
		}
		digits = digits[:len(digits)-cut]
		exponent = -MaxDecimalDigits
	}
	if len(digits) > MaxDecimalDigits {
		return Decimal{}, errDecimalLong
	}
	if negative {
		digits = "-" + digits
	}
	return Decimal{Coefficient: digits, Scale: -exponent}, nil
}

func isDigits(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// String writes the decimal with all digits of its scale and no exponent.
func (d Decimal) String() string {
	digits, negative := strings.CutPrefix(d.Coefficient, "-")
	if d.Scale > 0 {
		if len(digits) <= d.Scale {
			digits = strings.Repeat("0", d.Scale-len(digits)+1) + digits
		}
		digits = digits[:len(digits)-d.Scale] + "." + digits[len(digits)-d.Scale:]
	}
	if negative {
		return "-" + digits
	}
	return digits
}

// Big is the coefficient as a number.
func (d Decimal) Big() *big.Int {
	n, _ := new(big.Int).SetString(d.Coefficient, 10)
	if n == nil {
		return new(big.Int) // the zero Decimal
	}
	return n
}

// Compare returns -1, 0 or 1 as d is less than, equal to or greater than
// other, by number: 1.5 equals 1.50.
func (d Decimal) Compare(other Decimal) int {
	a, b := d.Big(), other.Big()
	ten := big.NewInt(10)
	if d.Scale < other.Scale {
		a.Mul(a, new(big.Int).Exp(ten, big.NewInt(int64(other.Scale-d.Scale)), nil))
	} else {
		b.Mul(b, new(big.Int).Exp(ten, big.NewInt(int64(d.Scale-other.Scale)), nil))
	}
	return a.Cmp(b)
}
