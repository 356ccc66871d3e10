package gnoi

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/openconfig/gnmi/proto/gnmi"
)

// paths reads paths with blanks between them.
func paths(text string) (out []*gnmi.Path, err error) {
	for text = strings.TrimSpace(text); text != ""; {
		end := pathEnd(text)
		p, err := ParsePath(text[:end])
		if err != nil {
			return nil, err
		}
		out, text = append(out, p), strings.TrimSpace(text[end:])
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("a path is missing, such as /system/state")
	}
	return out, nil
}

// pathEnd is where a path ends: at a blank that stands in no key.
func pathEnd(text string) int {
	inKey := false
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\':
			i++
		case text[i] == '[':
			inKey = true
		case text[i] == ']':
			inKey = false
		case text[i] == ' ' && !inKey:
			return i
		}
	}
	return len(text)
}

// ParsePath reads a path in the form that gNMI's own texts print it: /interfaces/interface[name=a/1]/state, with origin: in front where there is one. A
// backslash takes the meaning from the sign behind it.
func ParsePath(text string) (*gnmi.Path, error) {
	out := &gnmi.Path{}
	rest := text
	if origin, after, ok := strings.Cut(text, ":/"); ok && !strings.ContainsAny(origin, "/[") {
		out.Origin, rest = origin, "/"+after
	}
	if !strings.HasPrefix(rest, "/") {
		return nil, fmt.Errorf("%q is no path: it begins with /", text)
	}
	for rest = rest[1:]; rest != ""; {
		name, stop := until(rest, "/[")
		e := &gnmi.PathElem{Name: name}
		rest = rest[stop:]
		for strings.HasPrefix(rest, "[") {
			key, stop := until(rest[1:], "=]")
			rest = rest[1+stop:]
			if !strings.HasPrefix(rest, "=") || key == "" {
				return nil, fmt.Errorf("%q is no path: a key looks like [name=value]", text)
			}
			value, stop := until(rest[1:], "]")
			rest = rest[1+stop:]
			if !strings.HasPrefix(rest, "]") {
				return nil, fmt.Errorf("%q is no path: a key is not closed", text)
			}
			rest = rest[1:]
			if e.Key == nil {
				e.Key = map[string]string{}
			}
			e.Key[key] = value
		}
		if name == "" || rest != "" && rest[0] != '/' {
			return nil, fmt.Errorf("%q is no path: a name is missing", text)
		}
		rest = strings.TrimPrefix(rest, "/")
		out.Elem = append(out.Elem, e)
	}
	return out, nil
}

// until takes what stands before one of some signs, with backslashes resolved. stop is where that sign is.
func until(text, signs string) (value string, stop int) {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text):
			i++
			out.WriteByte(text[i])
		case strings.IndexByte(signs, text[i]) >= 0:
			return out.String(), i
		default:
			out.WriteByte(text[i])
		}
	}
	return out.String(), len(text)
}

// printPath writes a path in the form that ParsePath reads.
func printPath(elems []*gnmi.PathElem) string {
	escape := strings.NewReplacer(`\`, `\\`, `/`, `\/`, `[`, `\[`, `]`, `\]`, `=`, `\=`)
	inKey := strings.NewReplacer(`\`, `\\`, `]`, `\]`)
	var out strings.Builder
	for _, e := range elems {
		out.WriteString("/" + escape.Replace(e.Name))
		for _, k := range slices.Sorted(maps.Keys(e.Key)) {
			out.WriteString("[" + escape.Replace(k) + "=" + inKey.Replace(e.Key[k]) + "]")
		}
	}
	if out.Len() == 0 {
		return "/"
	}
	return out.String()
}
