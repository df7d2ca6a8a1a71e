package redact

import (
	"net/netip"
	"reflect"

	"unquil/core/escape"
	"unquil/core/wire"
)

// Copy returns a copy of v, however deep, with the names and addresses in it replaced: in
// names, records, messages and addresses as such, in texts and errors word by word. Words
// of the program's own (named kinds of string) and what is not exported stay. What v shares
// is shared in the copy.
func Copy[T any](r *Redactor, v T) T {
	c := copier{r, map[pointer]reflect.Value{}}
	return c.copy(reflect.ValueOf(&v).Elem()).Interface().(T)
}

type copier struct {
	*Redactor
	seen map[pointer]reflect.Value
}

// pointer is one that was followed.
type pointer struct {
	to uintptr
	of reflect.Type
}

// Redacted is an error whose text was redacted. It unwraps to what it was, so that it can
// still be told apart.
type Redacted struct {
	text string
	err  error
}

func (e *Redacted) Error() string { return e.text }

func (e *Redacted) Unwrap() error { return e.err }

func (c *copier) copy(v reflect.Value) reflect.Value {
	if !v.CanInterface() {
		return v
	}
	switch x := v.Interface().(type) {
	case wire.Name:
		return reflect.ValueOf(c.Name(x))
	case wire.Message:
		return reflect.ValueOf(c.message(x))
	case wire.Record:
		changed, ok := c.Record(x)
		if !ok {
			c.cut[x.String()] = true
			changed.Data = ""
		}
		return reflect.ValueOf(changed)
	case netip.Addr:
		return reflect.ValueOf(c.Address(x))
	case netip.AddrPort:
		return reflect.ValueOf(c.endpoint(x))
	case netip.Prefix:
		return reflect.ValueOf(c.Prefix(x))
	case string:
		return reflect.ValueOf(c.Text(x))
	case escape.Text:
		return reflect.ValueOf(escape.Text(c.Text(string(x))))
	case []byte:
		return reflect.ValueOf(c.Message(x))
	}
	switch v.Kind() {
	case reflect.Interface:
		if v.IsNil() {
			return v
		}
		if err, ok := v.Interface().(error); ok {
			changed := reflect.New(v.Type()).Elem()
			changed.Set(reflect.ValueOf(&Redacted{c.Text(err.Error()), err}))
			return changed
		}
		changed := reflect.New(v.Type()).Elem()
		changed.Set(c.copy(v.Elem()))
		return changed
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		at := pointer{v.Pointer(), v.Type()}
		if known, ok := c.seen[at]; ok {
			return known
		}
		changed := reflect.New(v.Type().Elem())
		c.seen[at] = changed
		changed.Elem().Set(c.copy(v.Elem()))
		return changed
	case reflect.Slice:
		if v.IsNil() {
			return v
		}
		changed := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		for i := range v.Len() {
			c.set(changed.Index(i), v.Index(i))
		}
		return changed
	case reflect.Array:
		changed := reflect.New(v.Type()).Elem()
		for i := range v.Len() {
			c.set(changed.Index(i), v.Index(i))
		}
		return changed
	case reflect.Map:
		if v.IsNil() {
			return v
		}
		changed := reflect.MakeMapWithSize(v.Type(), v.Len())
		for _, key := range v.MapKeys() {
			changed.SetMapIndex(c.copy(key), c.copy(v.MapIndex(key)))
		}
		return changed
	case reflect.Struct:
		changed := reflect.New(v.Type()).Elem()
		changed.Set(v) // with what is not exported
		for i := range v.NumField() {
			if changed.Field(i).CanSet() {
				c.set(changed.Field(i), v.Field(i))
			}
		}
		return changed
	}
	return v
}

// set copies v into a place; elements of slices lie where pointers may lead to.
func (c *copier) set(place, v reflect.Value) {
	if v.CanAddr() {
		c.seen[pointer{v.Addr().Pointer(), v.Addr().Type()}] = place.Addr()
	}
	place.Set(c.copy(v))
}
