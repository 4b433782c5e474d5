package wire

import (
	"math/bits"
	"unicode/utf8"
)

// Texts are looked at eight bytes at a time: most are short and ASCII.

const (
	ones  = 0x0101010101010101
	highs = 0x8080808080808080
)

func eight[T string | []byte](s T) uint64 {
	_ = s[7]
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 |
		uint64(s[4])<<32 | uint64(s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
}

// validText tells whether s is UTF-8.
func validText(s string) bool { return isASCII(s) || utf8.ValidString(s) }

func isASCII(s string) bool {
	if len(s) >= 8 {
		all := eight(s[len(s)-8:]) // what is left over by the steps below
		for ; len(s) > 8; s = s[8:] {
			all |= eight(s)
		}
		return all&highs == 0
	}
	var all byte
	for i := range len(s) {
		all |= s[i]
	}
	return all < 0x80
}

// plainLength is how many bytes are the same in a JSON string, from i
// on: up to a quote, a backslash, a control or what is not ASCII.
func plainLength[T string | []byte](s T, i int) int {
	for ; i+8 <= len(s); i += 8 {
		x := eight(s[i:])
		quote, backslash := x^'"'*ones, x^'\\'*ones
		// The first byte that is found is one; those after it may not be.
		found := (x | (x - 0x20*ones) | (quote-ones) & ^quote | (backslash-ones) & ^backslash) & highs
		if found != 0 {
			return i + bits.TrailingZeros64(found)/8
		}
	}
	for i < len(s) && plain[s[i]] {
		i++
	}
	return i
}

// plain marks the bytes that are the same in a JSON string.
var plain = func() (table [256]bool) {
	for c := 0x20; c < 0x80; c++ {
		table[c] = c != '"' && c != '\\'
	}
	return
}()
