package web

import (
	"fmt"
	"iter"
)

// Pages iterates over the items of all pages of a long list. ask asks for the page that comes after
// another one, of which it is given what the last answer said, nil for the first page; it returns nil
// with the last one. An error ends the iteration, and so does a page that comes after itself.
func Pages[T any, After comparable](ask func(after *After) (items []T, next *After, err error)) iter.Seq2[*T, error] {
	return func(yield func(*T, error) bool) {
		var after *After
		for {
			items, next, err := ask(after)
			if err != nil {
				yield(nil, err)
				return
			}
			for i := range items {
				if !yield(&items[i], nil) {
					return
				}
			}
			if next == nil {
				return
			}
			if after != nil && *next == *after {
				yield(nil, fmt.Errorf("the page after %v is followed by itself", *after))
				return
			}
			after = next
		}
	}
}
