package versions

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// number is a version (Semantic Versioning 2.0.0, sections 2 and 9), without build
// metadata, which would name one thing twice.
type number struct {
	core [3]int
	pre  []string // the identifiers of a pre-release, none for a release
}

func isVersion(text string) bool {
	_, ok := parse(text)
	return ok
}

// IsRelease tells versions that are no pre-releases.
func IsRelease(version string) bool {
	n, ok := parse(version)
	return ok && len(n.pre) == 0
}

func parse(version string) (n number, ok bool) {
	core, pre, isPre := strings.Cut(version, "-")
	parts := strings.Split(core, ".")
	if len(parts) != len(n.core) {
		return n, false
	}
	for i, part := range parts {
		v, err := strconv.ParseUint(part, 10, 31)
		if err != nil || strconv.FormatUint(v, 10) != part {
			return n, false
		}
		n.core[i] = int(v)
	}
	if !isPre {
		return n, true
	}
	n.pre = strings.Split(pre, ".")
	return n, !slices.ContainsFunc(n.pre, func(id string) bool {
		return id == "" || strings.ContainsFunc(id, notInIdentifier) || isDigits(id) && len(id) > 1 && id[0] == '0'
	})
}

func notInIdentifier(r rune) bool {
	return !('0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || r == '-')
}

func isDigits(id string) bool { return strings.Trim(id, "0123456789") == "" }

// compare orders versions (section 11): a pre-release is lower than its release.
func (n number) compare(m number) int {
	if by := slices.Compare(n.core[:], m.core[:]); by != 0 {
		return by
	}
	if len(n.pre) == 0 || len(m.pre) == 0 {
		return len(m.pre) - len(n.pre)
	}
	return slices.CompareFunc(n.pre, m.pre, func(a, b string) int {
		switch {
		case isDigits(a) && isDigits(b):
			return cmp.Or(len(a)-len(b), strings.Compare(a, b))
		case isDigits(a) != isDigits(b):
			return map[bool]int{true: -1, false: 1}[isDigits(a)]
		}
		return strings.Compare(a, b)
	})
}

// Compare orders two versions.
func Compare(a, b string) int {
	n, _ := parse(a)
	m, _ := parse(b)
	return n.compare(m)
}

// InLine tells whether a version is one of a line of versions, such as 1 or 1.4; all are
// of the line "".
func InLine(version, line string) bool {
	return line == "" || version == line || strings.HasPrefix(version, line+".")
}

// IsLine tells what can be a line: one or two numbers.
func IsLine(line string) bool {
	dots := strings.Count(line, ".")
	return !strings.Contains(line, "-") && dots < 2 && isVersion(line+strings.Repeat(".0", 2-dots))
}

// Size says how much a change asks of a version number.
type Size uint8

// The sizes.
const (
	Patch Size = iota
	Minor
	Major
)

func (s Size) String() string { return [...]string{"patch", "minor", "major"}[s] }

// Next returns the lowest release that a change of a size needs after a version. Under
// 1.0.0 everything counts one place lower.
func Next(version string, size Size) (string, error) {
	n, ok := parse(version)
	if !ok {
		return "", fmt.Errorf("the ledger has a version %q, which is none", version)
	}
	if n.core[0] == 0 && size > Patch {
		size--
	}
	place := int(Major - size)
	n.core[place]++
	clear(n.core[place+1:])
	return fmt.Sprintf("%d.%d.%d", n.core[0], n.core[1], n.core[2]), nil
}

// Check refuses what is not a version, or is lower than the one needed. A pre-release
// counts as the release that it leads to.
func Check(version, needed string) error {
	n, ok := parse(version)
	if !ok {
		return fmt.Errorf("%q is not a version; write three numbers, such as 1.4.0, or a pre-release, such as 2.0.0-rc.1",
			version)
	}
	if least, ok := parse(needed); ok && slices.Compare(n.core[:], least.core[:]) < 0 {
		return fmt.Errorf("%s is too low: what changed needs %s or higher", version, needed)
	}
	return nil
}
