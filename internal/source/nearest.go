package source

import (
	"fmt"
	"strings"
)

// maxWord is how long a word may be that is compared with others.
const maxWord = 100

// Nearest returns the candidate that a person most likely meant by word, or
// "" when none is close: at most a third of the letters, and no more than
// three, may differ. Equal distances go to the one that is closer in case, then
// to the earlier one.
func Nearest(word string, candidates []string) string {
	if len(word) > maxWord {
		return ""
	}
	best, bestDistance := "", min(3, max(1, len(word)/3))+1
	for _, c := range candidates {
		if abs(len(word)-len(c)) > bestDistance {
			continue
		}
		d := distance(strings.ToLower(word), strings.ToLower(c), bestDistance+1)
		if d < bestDistance || d == bestDistance && best != "" && distance(word, c, maxWord) < distance(word, best, maxWord) {
			best, bestDistance = c, d
		}
	}
	return best
}

// distance counts the insertions, deletions, replacements and swaps of
// neighbours that turn a into b, giving up at limit.
func distance(a, b string, limit int) int {
	if abs(len(a)-len(b)) >= limit {
		return limit
	}
	before, previous, current := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range previous {
		previous[j] = j
	}
	for i := 1; i <= len(a); i++ {
		current[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			current[j] = min(previous[j]+1, current[j-1]+1, previous[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				current[j] = min(current[j], before[j-2]+1)
			}
		}
		before, previous, current = previous, current, before
	}
	return previous[len(b)]
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// DidYouMean is the fix of a name that is not known: the nearest one that is.
func DidYouMean(near string) string { return fmt.Sprintf("did you mean %q?", near) }
