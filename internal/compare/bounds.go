package compare

import (
	"fmt"
	"math"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// bounds judges a field whose bounds differ. In a request the reader checks
// them: what the writer's own bounds allow must be allowed there, too.
// Elsewhere nobody checks, and a looser writer may surprise.
func (w *walker) bounds(fw, fr *schema.Field, f *Fact) {
	if f == nil || implies(fw.Type.Kind, fw.Bounds, fr.Bounds) {
		return
	}
	if !w.strict() {
		w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s may write values of %s that %s's own bounds refuse; nobody checks them there", w.writer(), fw.Name, w.reader())})
		return
	}
	if witness := w.prove(w.at, fw, false); witness != nil {
		w.emit(f, event{Breaks, fmt.Sprintf("%s may write values of %s that %s refuses", w.writer(), fw.Name, w.reader()), func() *Witness { return witness }})
		return
	}
	w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s, at values of %s that %s may write and %s may refuse", notDecided, fw.Name, w.writer(), w.reader())})
}

// implies tells whether every value that the writer's bounds allow is allowed
// by the reader's; false also where that would take more than limits to see.
func implies(k schema.Kind, writer, reader *schema.Bounds) bool {
	if reader == nil {
		return true
	}
	if writer == nil {
		writer = &schema.Bounds{}
	}
	low, high := ends(k)
	if writer.Low != nil {
		low = writer.Low
	}
	if writer.High != nil {
		high = writer.High
	}
	if reader.Low != nil && (low == nil || !atLeast(low, reader.Low)) || reader.High != nil && (high == nil || !atLeast(reader.High, high)) {
		return false
	}
	return within(writer.Length, reader.Length) && within(writer.Count, reader.Count) &&
		(reader.Pattern == "" || reader.Pattern == writer.Pattern) && (!reader.Unique || writer.Unique || writer.Count != nil && writer.Count.High <= 1)
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
		return false
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

// atLimits are the values of a field at and around the limits of its own
// bounds and those of its counterpart.
func atLimits(f, counterpart *schema.Field) []value.Value {
	var list []value.Value
	bounds := boundsOf(f)
	if f.Type.Kind == counterpart.Type.Kind {
		bounds = append(bounds, boundsOf(counterpart)...)
	}
	for _, b := range bounds {
		list = append(list, value.AtLimits(f.Type, b)...)
	}
	return list
}
