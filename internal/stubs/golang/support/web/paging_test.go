package web

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPages(t *testing.T) {
	refused := errors.New("refused")
	answers := map[string]struct {
		items []int
		next  string
		err   error
	}{"": {[]int{1, 2}, "b", nil}, "b": {nil, "c", nil}, "c": {[]int{3}, "", nil}, "round": {[]int{4}, "round", nil},
		"bad": {nil, "", refused}}
	var asked []string
	all := func(first string) (items []int, failed error) {
		asked = nil
		for item, err := range Pages(func(after *string) ([]int, *string, error) {
			page := first
			if after != nil {
				page = *after
			}
			asked = append(asked, page)
			answer := answers[page]
			if answer.next == "" {
				return answer.items, nil, answer.err
			}
			return answer.items, &answer.next, answer.err
		}) {
			if err != nil {
				return items, err
			}
			if items = append(items, *item); *item == 2 && len(asked) == 1 && first == "stop" {
				break
			}
		}
		return items, nil
	}
	items, err := all("")
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3}, items)
	assert.Equal(t, []string{"", "b", "c"}, asked, "each page once")
	_, err = all("bad")
	require.ErrorIs(t, err, refused)
	items, err = all("round")
	assert.ErrorContains(t, err, "the page after round is followed by itself")
	assert.Equal(t, []int{4, 4}, items)

	answers["stop"] = answers[""]
	items, err = all("stop")
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2}, items)
	assert.Len(t, asked, 1, "who stops asks for no more")
}
