package value

import (
	"cmp"
	"encoding/hex"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
)

// Part is a part of a binary payload: the bytes from Start to End, those before
// Body its key and head, and what they mean.
type Part struct {
	Start, Body, End int
	Label            string // "#1 id", "[0]", `"en"`; "" for the whole
	Type             string // as definitions write it; "" where they say nothing
	Text             string // the value, in the notation of JSON; of what is not listed in that of RFC 8949, section 8
	Unlisted         bool   // whether it is a field, member or alternative that the definitions know not
	Wrong            bool   // whether it is not of its type
	Parts            []*Part
	Note             string // of a list or map: how much is in it
}

// Dump takes a payload apart. Where it is not well formed, the parts before are
// returned with the *Error; whether the definitions take it, DecodeCBOR says.
func Dump(t *schema.Message, data []byte) (*Part, error) {
	d := &dumper{newCBORReader(data, 0)}
	p, err := d.item("", &schema.Type{Kind: schema.KindMessage, Message: t})
	if err == nil && d.at < len(data) {
		err = d.refuse("", "more bytes after the end")
	}
	if err != nil {
		return p, err
	}
	return p, nil
}

type dumper struct{ *cborReader }

// item takes one item apart. t is nil where nothing is known of it; what is not of
// its type is shown as what it is.
func (d *dumper) item(label string, t *schema.Type) (*Part, *Error) {
	p := &Part{Start: d.at, Label: label}
	if t != nil {
		p.Type = t.Local(nil)
	}
	at := d.at
	h, err := d.head()
	if err != nil {
		p.Body, p.End = len(d.data), len(d.data)
		return p, err
	}
	p.Body = d.at
	switch {
	case h.major == majorMap && t != nil && t.Kind == schema.KindMessage:
		err = d.entries(p, h, d.field(t.Message))
		p.Note = count(len(p.Parts), "field")
	case h.major == majorMap && t != nil && t.Kind == schema.KindUnion:
		err = d.entries(p, h, d.alternative(t.Union))
	case h.major == majorMap && t != nil && t.Kind == schema.KindMap:
		err = d.entries(p, h, d.entry(t))
		p.Note = count(len(p.Parts), "entry")
	case h.major == majorMap:
		err = d.entries(p, h, d.entry(&schema.Type{}))
		p.Note = count(len(p.Parts), "entry")
	case h.major == majorArray && (t == nil || t.Kind == schema.KindList || t.Kind == schema.KindAny):
		var elem *schema.Type
		if t != nil {
			elem = t.Elem
		}
		err = d.inside(h, 1, func(i int) *Error {
			part, err := d.item("["+strconv.Itoa(i)+"]", elem)
			p.Parts = append(p.Parts, part)
			return err
		})
		p.Note = count(len(p.Parts), "element")
	default:
		d.at = at
		err = d.scalar(p, t)
	}
	p.End = d.at
	return p, err
}

func count(n int, noun string) string {
	if n != 1 {
		noun = strings.TrimSuffix(noun, "y") + map[bool]string{true: "ies", false: "s"}[strings.HasSuffix(noun, "y")]
	}
	return strconv.Itoa(n) + " " + noun
}

func (d *dumper) inside(h head, perElement int, each func(i int) *Error) *Error {
	if err := d.enter(); err != nil {
		return err
	}
	err := d.elements(h, perElement, each)
	d.depth--
	return err
}

// entries takes the entries of a map apart: read takes one, its key included.
func (d *dumper) entries(p *Part, h head, read func() (*Part, *Error)) *Error {
	return d.inside(h, 2, func(int) *Error {
		start := d.at
		part, err := read()
		if part != nil {
			part.Start = start
			p.Parts = append(p.Parts, part)
		}
		return err
	})
}

// numbered reads a key that should be a number.
func (d *dumper) numbered() (number int, text string, err *Error) {
	key, err := d.item("", nil)
	if err != nil {
		return 0, "", err
	}
	if n, parseErr := strconv.Atoi(key.Text); parseErr == nil && n > 0 && n <= 65535 {
		return n, "#" + key.Text, nil
	}
	return 0, key.Text, nil
}

func (d *dumper) field(m *schema.Message) func() (*Part, *Error) {
	return func() (*Part, *Error) {
		number, text, err := d.numbered()
		if err != nil {
			return nil, err
		}
		if f := m.ByNumber(number); f != nil {
			t := f.Type
			if t.Clearable && d.isNull() {
				t = nil
			}
			part, err := d.item(text+" "+f.Name, t)
			part.Type = f.Type.Local(nil)
			if f.Presence == schema.Optional && !m.IsPatch() {
				part.Type += "?"
			}
			return part, err
		}
		part, err := d.item(text, nil)
		part.Unlisted = true
		return part, err
	}
}

func (d *dumper) alternative(u *schema.Union) func() (*Part, *Error) {
	return func() (*Part, *Error) {
		number, text, err := d.numbered()
		if err != nil {
			return nil, err
		}
		if a := u.ByNumber(number); a != nil {
			return d.item(text+" "+a.Name, a.Type)
		}
		part, err := d.item(text, nil)
		part.Unlisted = true
		return part, err
	}
}

func (d *dumper) entry(t *schema.Type) func() (*Part, *Error) {
	return func() (*Part, *Error) {
		key, err := d.item("", t.Key)
		if err != nil {
			return nil, err
		}
		return d.item(key.Text+":", t.Elem)
	}
}

// scalar takes what has no parts: by its type where it is of it.
func (d *dumper) scalar(p *Part, t *schema.Type) *Error {
	start := d.at
	if t != nil {
		v, err := d.value(t)
		if err == nil {
			w := &jsonWriter{}
			if err := w.value(v, t); err != nil {
				return err
			}
			p.Text, p.Body = string(w.out), d.at
			if e, isEnum := v.(Enum); isEnum {
				m := t.Enum.ByNumber(e.Number)
				p.Unlisted = m == nil
				if m != nil {
					p.Text = m.Name + " #" + strconv.Itoa(e.Number)
				}
			}
			return nil
		}
		d.at = start
	}
	text, err := d.notation()
	p.Text, p.Body = text, d.at
	p.Wrong = t != nil
	return err
}

// notation writes an item as RFC 8949, section 8, does.
func (d *dumper) notation() (string, *Error) {
	start := d.at
	h, err := d.head()
	if err != nil {
		return "", err
	}
	switch h.major {
	case majorUnsigned:
		return strconv.FormatUint(h.argument, 10), nil
	case majorNegative:
		if h.argument == 1<<64-1 {
			return "-18446744073709551616", nil
		}
		return "-" + strconv.FormatUint(h.argument+1, 10), nil
	case majorBytes:
		b, err := d.chunks(h)
		return "h'" + hex.EncodeToString(b) + "'", err
	case majorText:
		v, err := d.text(h)
		s, _ := v.(string)
		return string(AppendString(nil, s)), err
	case majorTag:
		tags := 1
		text := strconv.FormatUint(h.argument, 10) + "("
		for ; d.at < len(d.data) && d.data[d.at]>>5 == majorTag; tags++ { // no recursion: there may be any number
			if h, err = d.head(); err != nil {
				return text, err
			}
			text += strconv.FormatUint(h.argument, 10) + "("
			if tags == 20 {
				return text + "…", d.skip()
			}
		}
		inner, err := d.notation()
		return text + inner + strings.Repeat(")", tags), err
	case majorArray, majorMap:
		perElement := int(h.major) - majorArray + 1
		var parts []string
		err := d.inside(h, perElement, func(int) *Error {
			part, err := d.notation()
			if perElement == 2 && err == nil {
				var v string
				v, err = d.notation()
				part += ": " + v
			}
			parts = append(parts, part)
			return err
		})
		brackets := [][2]string{{"[", "]"}, {"{", "}"}}[perElement-1]
		return brackets[0] + strings.Join(parts, ", ") + brackets[1], err
	}
	if x, isFloat := h.float(); isFloat {
		return schema.FloatText(x), nil
	}
	switch {
	case h.indefinite:
		return "", d.refuseAt(start, "a value", "a break")
	case h.info == 23:
		return "undefined", nil
	case h.info >= 20 && h.info <= 22:
		return h.describe(), nil
	}
	return "simple(" + strconv.FormatUint(h.argument, 10) + ")", nil
}

// Fit is a message that bytes may be.
type Fit struct {
	Message  *schema.Message
	Known    int // fields in the payload that are listed, at any depth
	Unlisted int // and those that are not
	Lawful   bool
}

// Fits lists the messages and errors that a binary payload can be read as, those
// first that know more of it. Where there are none, nearest is the message whose
// reader got farthest, and err what stopped it.
func Fits(defs *schema.Definitions, data []byte) (fits []Fit, nearest *schema.Message, err *Error) {
	for _, module := range defs.Modules {
		for _, t := range module.Messages {
			m, decodeErr := DecodeCBOR(t, data, 0)
			if decodeErr != nil {
				if e := decodeErr.(*Error); err == nil || e.Offset > err.Offset {
					nearest, err = t, e
				}
				continue
			}
			f := Fit{Message: t, Lawful: len(Validate(m)) == 0}
			whole, _ := Dump(t, data) // it can be read
			f.count(whole)
			fits = append(fits, f)
		}
	}
	sortFits(fits)
	return fits, nearest, err
}

func sortFits(fits []Fit) {
	slices.SortStableFunc(fits, func(a, b Fit) int {
		lawful := func(f Fit) int { return map[bool]int{true: 0, false: 1}[f.Lawful] }
		return cmp.Or(a.Unlisted-b.Unlisted, lawful(a)-lawful(b), b.Known-a.Known,
			strings.Compare(a.Message.FullName(), b.Message.FullName()))
	})
}

func (f *Fit) count(p *Part) {
	switch {
	case p.Unlisted:
		f.Unlisted++
	case strings.HasPrefix(p.Label, "#"):
		f.Known++
	}
	for _, part := range p.Parts {
		f.count(part)
	}
}
