package value

import "faithfulcourier/internal/schema"

// FromExample turns a value written in definitions into one. What has a default
// and was left out has it.
func FromExample(o *schema.Object) *Message {
	m := &Message{Type: o.Message, Fields: map[int]Value{}}
	for _, f := range o.Message.Fields {
		if f.Presence == schema.Defaulted {
			m.Fields[f.Number] = Default(f.Default)
		}
	}
	for _, f := range o.Fields {
		m.Fields[f.Field.Number] = exampleValue(f.Value)
	}
	return m
}

func exampleValue(v any) Value {
	switch v := v.(type) {
	case *schema.Object:
		return FromExample(v)
	case schema.List:
		list := List{}
		for _, item := range v {
			list = append(list, exampleValue(item))
		}
		return list
	case schema.Entries:
		m := &Map{}
		for _, e := range v {
			m.Entries = append(m.Entries, Entry{exampleValue(e.Key), exampleValue(e.Value)})
		}
		sortEntries(m.Entries)
		return m
	case *schema.Chosen:
		return &Union{Number: v.Alternative.Number, Value: exampleValue(v.Value)}
	}
	return Default(v)
}

// Example is a value of a message that definitions show: from an example of it,
// else made within its bounds.
func Example(defs *schema.Definitions, m *schema.Message) *Message {
	for _, module := range defs.Modules {
		for _, e := range module.Examples {
			if e.Of == m {
				return FromExample(e.Value)
			}
		}
	}
	return MinimalMessage(m)
}
