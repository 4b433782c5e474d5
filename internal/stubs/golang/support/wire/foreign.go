package wire

import (
	"crypto/rand"
	"database/sql/driver"
	"fmt"
	"time"
)

// What other packages ask of scalars: text (encoding.TextMarshaler, which encoding/json
// uses, too) and columns of databases (sql.Scanner, driver.Valuer), which contain the same
// text.

// NewUUID returns a new random uuid (RFC 9562, section 5.4).
func NewUUID() UUID {
	var u UUID
	_, _ = rand.Read(u[:]) // it never fails
	u[6] = u[6]&0x0f | 0x40
	u[8] = u[8]&0x3f | 0x80
	return u
}

// MarshalText writes what String does.
func (u UUID) MarshalText() ([]byte, error) { return appendUUIDText(nil, u), nil }

// UnmarshalText reads what ParseUUID does.
func (u *UUID) UnmarshalText(text []byte) (err error) {
	*u, err = ParseUUID(string(text))
	return err
}

// Value is the text of u for a column.
func (u UUID) Value() (driver.Value, error) { return u.String(), nil }

// Scan reads the text of a uuid, or its 16 bytes, from a column.
func (u *UUID) Scan(column any) error {
	if raw, ok := column.([]byte); ok && len(raw) == len(u) {
		copy(u[:], raw)
		return nil
	}
	return scanned(u, "uuid", column)
}

// MarshalText writes what String does.
func (d Decimal) MarshalText() ([]byte, error) { return d.appendText(nil), nil }

// UnmarshalText reads what ParseDecimal does.
func (d *Decimal) UnmarshalText(text []byte) (err error) {
	*d, err = ParseDecimal(string(text))
	return err
}

// Value is the text of d for a column.
func (d Decimal) Value() (driver.Value, error) { return d.String(), nil }

// Scan reads the text of a decimal, or an integer, from a column. A float is refused: it
// has lost what a decimal is for.
func (d *Decimal) Scan(column any) error {
	if n, ok := column.(int64); ok {
		*d = NewDecimal(n, 0)
		return nil
	}
	return scanned(d, "decimal", column)
}

// MarshalText writes what String does.
func (d Date) MarshalText() ([]byte, error) { return appendDateText(nil, d), nil }

// UnmarshalText reads what ParseDate does.
func (d *Date) UnmarshalText(text []byte) (err error) {
	*d, err = ParseDate(string(text))
	return err
}

// Value is the text of d for a column.
func (d Date) Value() (driver.Value, error) { return d.String(), nil }

// Scan reads the text of a date, or the date of a time, from a column.
func (d *Date) Scan(column any) error {
	if t, ok := column.(time.Time); ok {
		*d = DateOf(t)
		return nil
	}
	return scanned(d, "date", column)
}

// scanned reads the text of a column.
func scanned(v interface{ UnmarshalText([]byte) error }, name string, column any) error {
	switch column := column.(type) {
	case string:
		return v.UnmarshalText([]byte(column))
	case []byte:
		return v.UnmarshalText(column)
	}
	return fmt.Errorf("a %s can't be read from a column of type %T", name, column)
}
