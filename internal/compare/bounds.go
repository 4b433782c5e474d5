package compare

import (
	"fmt"
	"math"
	"slices"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
)

// implies tells whether every value that all of the writers' bounds allow is
// allowed by the reader's; false also where that would take more than limits to
// see.
func implies(k schema.Kind, writers []*schema.Bounds, reader *schema.Bounds) bool {
	if reader == nil {
		return true
	}
	low, high := ends(k)
	length, count := &schema.Limits{High: schema.Unlimited}, &schema.Limits{High: schema.Unlimited}
	var patterns []*schema.Bounds
	unique := false
	for _, b := range writers {
		if b == nil {
			continue
		}
		if b.Low != nil && (low == nil || atLeast(b.Low, low)) {
			low = b.Low
		}
		if b.High != nil && (high == nil || atLeast(high, b.High)) {
			high = b.High
		}
		length, count = both(length, b.Length), both(count, b.Count)
		unique = unique || b.Unique
		patterns = append(patterns, b)
	}
	if reader.Low != nil && (low == nil || !atLeast(low, reader.Low)) || reader.High != nil && (high == nil || !atLeast(reader.High, high)) {
		return false
	}
	if !within(count, reader.Count) || reader.Unique && !unique && count.High > 1 {
		return false
	}
	if k == schema.KindText && (reader.Pattern != "" || slices.ContainsFunc(patterns, func(b *schema.Bounds) bool { return b.Pattern != "" })) {
		return impliesText(patterns, length, reader)
	}
	return within(length, reader.Length)
}

// impliesText compares texts as the regular languages that they are.
func impliesText(writers []*schema.Bounds, length *schema.Limits, reader *schema.Bounds) bool {
	alike := func(b *schema.Bounds) bool { return b.Pattern == reader.Pattern }
	patterned := reader.Pattern == "" || slices.ContainsFunc(writers, alike)
	if patterned && within(length, reader.Length) {
		return true
	}
	var with []*pattern.Node
	for _, b := range writers {
		if node, problem := pattern.Parse(b.Pattern); b.Pattern != "" && problem == nil {
			with = append(with, node)
		}
	}
	none := func(with, without []*pattern.Node, l *schema.Limits) bool {
		if l.Low > l.High {
			return true
		}
		_, found, err := pattern.Difference(with, without).Text(l.Low, l.High, func(int) int { return 0 })
		return err == nil && !found
	}
	if !patterned {
		node, problem := pattern.Parse(reader.Pattern)
		if problem != nil || !none(with, []*pattern.Node{node}, length) {
			return false
		}
	}
	if l := reader.Length; l != nil {
		if l.Low > 0 && !none(with, nil, both(length, &schema.Limits{High: l.Low - 1})) {
			return false
		}
		if l.High != schema.Unlimited && !none(with, nil, both(length, &schema.Limits{Low: l.High + 1, High: schema.Unlimited})) {
			return false
		}
	}
	return true
}

// both are the limits that two allow; nil allows all.
func both(a, b *schema.Limits) *schema.Limits {
	if b == nil {
		return a
	}
	return &schema.Limits{Low: max(a.Low, b.Low), High: min(a.High, b.High)}
}

// ends are the least and the greatest value of a kind, nil where it has none.
func ends(k schema.Kind) (low, high any) {
	switch {
	case k.IsUnsigned():
		_, high := k.Range()
		return uint64(0), high
	case k.IsInteger():
		low, high := k.Range()
		return low, int64(high)
	case k == schema.KindDate:
		return schema.MinDate, schema.MaxDate
	case k == schema.KindInstant:
		return schema.Instant{Seconds: schema.MinInstantSeconds}, schema.Instant{Seconds: schema.MaxInstantSeconds, Nanos: 999_999_999}
	case k == schema.KindDuration:
		return schema.Duration(math.MinInt64), schema.Duration(math.MaxInt64)
	}
	return nil, nil
}

func atLeast(a, b any) bool {
	if fmt.Sprintf("%T", a) != fmt.Sprintf("%T", b) {
		x, isNumber := number(a)
		y, alsoNumber := number(b)
		return isNumber && alsoNumber && x != nil && y != nil && x.Cmp(y) >= 0
	}
	order, ordered := schema.Compare(a, b)
	return ordered && order >= 0
}

func within(inner, outer *schema.Limits) bool {
	if outer == nil {
		return true
	}
	if inner == nil {
		inner = &schema.Limits{High: schema.Unlimited}
	}
	return inner.Low >= outer.Low && inner.High <= outer.High
}

// boundsOf lists the bounds of a field and of its type.
func boundsOf(f *schema.Field) []*schema.Bounds {
	var list []*schema.Bounds
	if f.Bounds != nil {
		list = append(list, f.Bounds)
	}
	if f.Type.Named != nil && f.Type.Named.Bounds != nil {
		list = append(list, f.Type.Named.Bounds)
	}
	return list
}
