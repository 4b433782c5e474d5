// Package shell writes words as a POSIX shell reads them, for lines that people copy.
// It knows nothing of what they say.
package shell

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// plain are the characters that no shell takes for more than they are.
const plain = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-./:@%+=,"

// Word is a text as one word: as it is where nothing in it means anything to a shell, else
// in quotes (IEEE Std 1003.1, Shell Command Language, 2.2). One with control characters,
// or that is not UTF-8, needs the $'…' of bash, zsh and POSIX of 2024.
func Word(text string) string {
	if text != "" && strings.Trim(text, plain) == "" {
		return text
	}
	return Quoted(text)
}

// Quoted is Word, in quotes whatever it holds.
func Quoted(text string) string {
	if utf8.ValidString(text) && !strings.ContainsFunc(text, isControl) {
		return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
	}
	var b strings.Builder
	b.WriteString("$'")
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == '\n':
			b.WriteString(`\n`)
		case isControl(r), r == utf8.RuneError && size == 1:
			for _, c := range []byte(text[i : i+size]) {
				fmt.Fprintf(&b, `\%03o`, c) // three digits always: what follows is not taken in
			}
		case r == '\'' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		default:
			b.WriteString(text[i : i+size])
		}
		i += size
	}
	return b.String() + "'"
}

func isControl(r rune) bool { return r < ' ' || r >= 0x7f && r < 0xa0 }
