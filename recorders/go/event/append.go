package event

import (
	"strconv"
	"unicode/utf8"
)

// AppendLine appends e as one line, its newline included, and returns the extended slice. It writes the fields in
// Has that its kind knows, in the order of the format's table, so that equal events give equal bytes.
func AppendLine(dst []byte, e *Event) []byte {
	dst = append(dst, `{"ev":"`...)
	dst = append(dst, e.Kind.String()...)
	dst = append(dst, `","t":`...)
	dst = strconv.AppendInt(dst, e.T, 10)
	set := e.Has.and(shapes[e.Kind].required.or(shapes[e.Kind].optional))
	for _, f := range lineOrder[e.Kind] {
		if set.Has(f) {
			dst = append(dst, ',', '"')
			dst = append(dst, fieldNames[f]...)
			dst = append(dst, '"', ':')
			dst = appendField(dst, e, f)
		}
	}
	return append(dst, '}', '\n')
}

// lineOrder lists each kind's fields, required ones first.
var lineOrder = func() (o [kinds][]Field) {
	for k, s := range shapes {
		for _, set := range []Fields{s.required, s.optional} {
			for f := range fields {
				if set.Has(f) {
					o[k] = append(o[k], f)
				}
			}
		}
	}
	return o
}()

func appendStrings(dst []byte, list []string) []byte {
	dst = append(dst, '[')
	for i, s := range list {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = AppendString(dst, s)
	}
	return append(dst, ']')
}

func appendLabels(dst []byte, labels map[string]string) []byte {
	names := make([]string, 0, len(labels))
	for n := range labels {
		names = append(names, n)
	}
	sortStrings(names)
	dst = append(dst, '{')
	for i, n := range names {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(AppendString(dst, n), ':')
		dst = AppendString(dst, labels[n])
	}
	return append(dst, '}')
}

// sortStrings is an insertion sort: labels are few.
func sortStrings(s []string) {
	for i := 1; i < len(s); i++ {
		for j := i; j > 0 && s[j] < s[j-1]; j-- {
			s[j], s[j-1] = s[j-1], s[j]
		}
	}
}

func appendPart(dst []byte, e *Event) []byte {
	dst = append(dst, '{')
	switch {
	case e.InCont != 0:
		dst = append(dst, `"container":`...)
		dst = strconv.AppendUint(dst, uint64(e.InCont), 10)
	case e.InModule != "":
		dst = append(dst, `"module":`...)
		dst = AppendString(dst, e.InModule)
	default:
		dst = append(dst, `"scope":`...)
		dst = AppendString(dst, e.InKind)
	}
	return append(dst, '}')
}

func appendAlso(dst []byte, list []Also) []byte {
	dst = append(dst, '[')
	for i, a := range list {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, `{"service":`...)
		dst = AppendString(dst, a.Service)
		if a.HasKey {
			dst = append(dst, `,"key":`...)
			dst = AppendString(dst, a.Key)
		}
		dst = append(dst, '}')
	}
	return append(dst, ']')
}

func appendNeeds(dst []byte, list []Need) []byte {
	dst = append(dst, '[')
	for i := range list {
		n := &list[i]
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, `{"service":`...)
		dst = AppendString(dst, n.Service)
		dst = appendText(dst, "site", n.Site, n.Site != "")
		dst = appendText(dst, "key", n.Key, n.HasKey)
		dst = appendText(dst, "how", n.How, n.How != "")
		dst = appendTrue(dst, "all", n.All)
		dst = appendTrue(dst, "optional", n.Optional)
		dst = appendTrue(dst, "lazy", n.Lazy)
		dst = append(dst, '}')
	}
	return append(dst, ']')
}

func appendWith(dst []byte, list []With) []byte {
	dst = append(dst, '[')
	for i := 0; i < len(list); i++ {
		if i > 0 {
			dst = append(dst, ',')
		}
		if !list[i].All {
			dst = appendGiven(dst, &list[i])
			continue
		}
		dst = append(dst, '[')
		first := true
		for j := i; j < len(list) && list[j].All && list[j].Slot == list[i].Slot; j++ {
			if list[j].Absent { // it stands for an empty list
				continue
			}
			if !first {
				dst = append(dst, ',')
			}
			first = false
			dst = appendGiven(dst, &list[j])
		}
		dst = append(dst, ']')
		for i+1 < len(list) && list[i+1].All && list[i+1].Slot == list[i].Slot {
			i++
		}
	}
	return append(dst, ']')
}

func appendGiven(dst []byte, w *With) []byte {
	if w.Absent {
		return append(dst, "null"...)
	}
	if w.Site == "" && w.Service == "" && !w.HasKey && w.Via == 0 && !w.Passing && !w.Unseen {
		return strconv.AppendUint(dst, uint64(w.Inst), 10)
	}
	dst = append(dst, `{"inst":`...)
	dst = strconv.AppendUint(dst, uint64(w.Inst), 10)
	dst = appendText(dst, "site", w.Site, w.Site != "")
	dst = appendText(dst, "service", w.Service, w.Service != "")
	dst = appendText(dst, "key", w.Key, w.HasKey)
	if w.Via != 0 {
		dst = append(dst, `,"via":`...)
		dst = strconv.AppendUint(dst, uint64(w.Via), 10)
	}
	if w.Passing {
		dst = append(dst, `,"kept":false`...)
	}
	dst = appendTrue(dst, "unknown", w.Unseen)
	return append(dst, '}')
}

func appendText(dst []byte, name, value string, there bool) []byte {
	if !there {
		return dst
	}
	dst = append(dst, ',', '"')
	dst = append(dst, name...)
	dst = append(dst, '"', ':')
	return AppendString(dst, value)
}

func appendTrue(dst []byte, name string, there bool) []byte {
	if !there {
		return dst
	}
	dst = append(dst, ',', '"')
	dst = append(dst, name...)
	return append(dst, `":true`...)
}

// cut returns as much of s as a field may have.
func cut(s string) string {
	size := 0
	for at, r := range s {
		if size += utf8.RuneLen(r); size > MaxText { // what is no UTF-8 is U+FFFD here
			return s[:at]
		}
	}
	return s
}

const hex = "0123456789abcdef"

// AppendString appends s as a JSON string, cut behind MaxText bytes. Bytes that are no UTF-8 become U+FFFD, since a trace
// is UTF-8 throughout; they count as the three bytes that is.
func AppendString(dst []byte, s string) []byte {
	if len(s) > MaxText/3 {
		s = cut(s)
	}
	dst = append(dst, '"')
	start := 0
	for i := 0; i < len(s); {
		b := s[i]
		if b < utf8.RuneSelf {
			if b >= 0x20 && b != '"' && b != '\\' {
				i++
				continue
			}
			dst = append(dst, s[start:i]...)
			switch b {
			case '"', '\\':
				dst = append(dst, '\\', b)
			case '\n':
				dst = append(dst, '\\', 'n')
			case '\t':
				dst = append(dst, '\\', 't')
			default:
				dst = append(dst, '\\', 'u', '0', '0', hex[b>>4], hex[b&15])
			}
			i++
			start = i
			continue
		}
		r, n := utf8.DecodeRuneInString(s[i:])
		if r == utf8.RuneError && n == 1 {
			dst = append(dst, s[start:i]...)
			dst = append(dst, "\ufffd"...)
			i++
			start = i
			continue
		}
		i += n
	}
	dst = append(dst, s[start:]...)
	return append(dst, '"')
}
