package syntax

import "strings"

// SnakeCase turns any name into snake_case.
func SnakeCase(name string) string {
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		c := name[i]
		switch class := letters[c]; {
		case class == isUpper:
			startsWord := i > 0 && (letters[name[i-1]]&(isLower|isDigit) != 0 ||
				letters[name[i-1]] == isUpper && i+1 < len(name) && letters[name[i+1]] == isLower)
			if startsWord {
				b.WriteByte('_')
			}
			b.WriteByte(c - 'A' + 'a')
		case class == isUnderscore:
			if i > 0 && i+1 < len(name) && letters[name[i-1]] != isUnderscore {
				b.WriteByte('_')
			}
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// PascalCase turns any name into PascalCase.
func PascalCase(name string) string {
	var b strings.Builder
	for part := range strings.SplitSeq(SnakeCase(name), "_") {
		if part != "" {
			b.WriteString(strings.ToUpper(part[:1]) + part[1:])
		}
	}
	return b.String()
}

// SameFolded tells whether two names are equal without "_" and case.
func SameFolded(a, b string) bool {
	i, j := 0, 0
	for {
		for i < len(a) && a[i] == '_' {
			i++
		}
		for j < len(b) && b[j] == '_' {
			j++
		}
		if i == len(a) || j == len(b) {
			return i == len(a) && j == len(b)
		}
		if a[i] != b[j] && lower(a[i]) != lower(b[j]) {
			return false
		}
		i++
		j++
	}
}

func lower(c byte) byte {
	if letters[c] == isUpper {
		return c - 'A' + 'a'
	}
	return c
}

// Fold is the form in which two names of one scope must differ: without "_"
// and case.
func Fold(name string) string {
	for i := 0; i < len(name); i++ {
		if letters[name[i]]&(isUpper|isUnderscore) != 0 {
			return fold(name)
		}
	}
	return name
}

func fold(name string) string {
	var buffer [64]byte
	return string(AppendFold(buffer[:0], name))
}

// AppendFold appends the folded form of a name.
func AppendFold(b []byte, name string) []byte {
	for i := 0; i < len(name); i++ {
		if name[i] != '_' {
			b = append(b, lower(name[i]))
		}
	}
	return b
}

// IsDevice tells names that Windows keeps for devices, with any ending.
func IsDevice(name string) bool {
	switch name = strings.ToLower(name); name {
	case "con", "prn", "aux", "nul":
		return true
	}
	return len(name) == 4 && (strings.HasPrefix(name, "com") || strings.HasPrefix(name, "lpt")) && name[3] >= '0' &&
		name[3] <= '9'
}

// Compact is a dotted or snake_case name in small letters alone.
func Compact(name string) string {
	return strings.NewReplacer(".", "", "_", "").Replace(strings.ToLower(name))
}
