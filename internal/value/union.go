package value

import (
	"encoding/base64"
	"fmt"
	"strconv"

	"faithfulcourier/internal/schema"
)

// Union is a value of a union: an alternative by its number with its Value; or
// one that the definitions do not list, either a number with its CBOR, or
// (Number 0) a JSON name with its JSON.
type Union struct {
	Number int
	Value  Value
	CBOR   []byte
	Name   string
	JSON   string
}

func (r *cborReader) union(h head, start int, u *schema.Union) (Value, *Error) {
	if h.major != majorMap || !h.indefinite && h.argument != 1 {
		return nil, r.refuseAt(start, "a map of one entry for "+u.Name, h.describe())
	}
	if err := r.enter(); err != nil {
		return nil, err
	}
	out := &Union{}
	count := 0
	err := r.elements(h, 2, func(int) *Error {
		keyAt := r.at
		key, err := r.head()
		if err != nil {
			return err
		}
		if count++; count > 1 {
			return r.refuseAt(keyAt, "one alternative", "a second one")
		}
		r.budget++ // a union is one value, whatever it is written as
		if key.major != majorUnsigned || key.argument < 1 || key.argument > 65535 {
			return r.refuseAt(keyAt, "the number of an alternative, 1 to 65535", key.describe())
		}
		out.Number = int(key.argument)
		a := u.ByNumber(out.Number)
		if a == nil {
			from := r.at
			err := r.skip()
			out.CBOR = r.data[from:r.at:r.at]
			return inside(err, "#"+strconv.Itoa(out.Number))
		}
		out.Value, err = r.value(a.Type)
		return inside(err, a.JSONName())
	})
	r.depth--
	if err == nil && count == 0 {
		err = r.refuseAt(start, "one alternative of "+u.Name, "none")
	}
	return out, err
}

func (w *cborWriter) union(v *Union, u *schema.Union) *Error {
	if v.Number == 0 {
		return writeError("the alternative %q is not listed in %s, and binary payloads contain numbers", v.Name, u.Name)
	}
	if err := w.enter(); err != nil {
		return err
	}
	w.head(majorMap, 1)
	w.head(majorUnsigned, uint64(v.Number))
	if a := u.ByNumber(v.Number); a == nil {
		w.out = append(w.out, v.CBOR...)
	} else if err := w.value(v.Value, a.Type); err != nil {
		return inside(err, a.JSONName())
	}
	w.depth--
	return nil
}

func (r *jsonReader) union(u *schema.Union) (Value, *Error) {
	start := r.at
	out := &Union{}
	count := 0
	err := r.sequence('}', func(int) *Error {
		at := r.skipTo()
		name, err := r.name()
		if err != nil {
			return err
		}
		if count++; count > 1 {
			return r.refuseAt(at, "one alternative", "a second one")
		}
		r.budget++
		number, err := r.numberName(name, at)
		if err != nil {
			return err
		}
		var a *schema.Alternative
		switch {
		case number > 0:
			out.Number = number
			a = u.ByNumber(number)
			err = r.inBase64(func(inner *cborReader) (err *Error) {
				if a != nil {
					out.Value, err = inner.value(a.Type)
					return err
				}
				out.CBOR = inner.data
				return inner.skip()
			})
		default:
			for _, x := range u.Alternatives {
				if x.JSONName() == name {
					a = x
				}
			}
			if a == nil {
				var raw []byte
				raw, err = r.raw(nil)
				out.Name, out.JSON = name, string(raw)
				break
			}
			out.Number = a.Number
			out.Value, err = r.value(a.Type)
		}
		return inside(err, name)
	})
	if err == nil && count == 0 {
		err = r.refuseAt(start, "one alternative of "+u.Name, "none")
	}
	return out, err
}

func (w *jsonWriter) union(v *Union, u *schema.Union) *Error {
	if err := w.enter(); err != nil {
		return err
	}
	a := u.ByNumber(v.Number)
	switch {
	case v.Number == 0:
		w.out = append(append(AppendString(append(w.out, '{'), v.Name), ':'), v.JSON...)
	case a == nil:
		w.out = fmt.Appendf(w.out, `{"#%d":"%s"`, v.Number, base64.RawURLEncoding.EncodeToString(v.CBOR))
	default:
		w.out = append(AppendString(append(w.out, '{'), a.JSONName()), ':')
		if err := w.value(v.Value, a.Type); err != nil {
			return inside(err, a.JSONName())
		}
	}
	w.out = append(w.out, '}')
	w.depth--
	return nil
}
