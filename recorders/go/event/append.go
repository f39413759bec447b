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
	set := e.Has & (shapes[e.Kind].required | shapes[e.Kind].optional)
	for _, f := range lineOrder[e.Kind] {
		if set.Has(f) {
			dst = append(dst, ',', '"')
			dst = append(dst, fieldNames[f]...)
			dst = append(dst, '"', ':')
			dst = appendField(dst, e, f)
		}
	}
	if e.Message != "" && shapes[e.Kind].message {
		dst = append(dst, `,"message":`...)
		dst = AppendString(dst, e.Message)
	}
	return append(dst, '}', '\n')
}

// lineOrder lists each kind's fields, required ones first.
var lineOrder = func() (o [kinds][]Field) {
	for k, s := range shapes {
		for _, set := range []Fields{s.required, s.optional} {
			for f := Field(0); f < 64; f++ {
				if set.Has(f) {
					o[k] = append(o[k], f)
				}
			}
		}
	}
	return o
}()

func appendField(dst []byte, e *Event, f Field) []byte {
	switch f {
	case FFormat:
		return AppendString(dst, e.Format)
	case FApp:
		return AppendString(dst, e.App)
	case FStream:
		return AppendString(dst, e.Stream)
	case FStart:
		return AppendString(dst, e.Start)
	case FVersion:
		return AppendString(dst, e.Version)
	case FLanguage:
		return AppendString(dst, e.Language)
	case FHost:
		return AppendString(dst, e.Host)
	case FPID:
		return strconv.AppendInt(dst, e.PID, 10)
	case FEnvironment:
		return AppendString(dst, e.Environment)
	case FLabels:
		return appendLabels(dst, e.Labels)
	case FRecorder:
		return AppendString(dst, e.Recorder)
	case FSees:
		return appendStrings(dst, e.Sees)
	case FContainer:
		return strconv.AppendUint(dst, uint64(e.Container), 10)
	case FIn:
		if e.Kind == Register {
			return appendPart(dst, e)
		}
		if e.Kind == Container {
			return strconv.AppendUint(dst, uint64(e.InCont), 10)
		}
		return strconv.AppendUint(dst, uint64(e.InScope), 10)
	case FScope:
		return strconv.AppendUint(dst, uint64(e.Scope), 10)
	case FName:
		return AppendString(dst, e.Name)
	case FAt:
		return AppendString(dst, e.At)
	case FDuplicates:
		return AppendString(dst, e.Duplicates)
	case FCycles:
		return AppendString(dst, e.Cycles)
	case FReg:
		return strconv.AppendUint(dst, uint64(e.Reg), 10)
	case FService:
		return AppendString(dst, e.Service)
	case FImpl:
		return AppendString(dst, e.Impl)
	case FLifetime:
		return AppendString(dst, e.Lifetime)
	case FDeclared:
		return AppendString(dst, e.Declared)
	case FKey:
		return AppendString(dst, e.Key)
	case FAlso:
		return appendAlso(dst, e.Also)
	case FNeeds:
		return appendNeeds(dst, e.Needs)
	case FWraps:
		return strconv.AppendUint(dst, uint64(e.Wraps), 10)
	case FAlias:
		return strconv.AppendUint(dst, uint64(e.Alias), 10)
	case FProxy:
		return strconv.AppendUint(dst, uint64(e.Proxy), 10)
	case FPrimary:
		return strconv.AppendBool(dst, e.Primary)
	case FLocal:
		return strconv.AppendBool(dst, e.Local)
	case FInternal:
		return strconv.AppendBool(dst, e.Internal)
	case FDisposable:
		return strconv.AppendBool(dst, e.Disposable)
	case FDisposer:
		return AppendString(dst, e.Disposer)
	case FShareable:
		return strconv.AppendBool(dst, e.Shareable)
	case FModule:
		return AppendString(dst, e.Module)
	case FKind:
		return AppendString(dst, e.ScopeKind)
	case FTrace:
		return AppendString(dst, e.Trace)
	case FWeight:
		return strconv.AppendInt(dst, e.Weight, 10)
	case FEnds:
		return AppendString(dst, e.Ends)
	case FInst:
		return strconv.AppendUint(dst, uint64(e.Inst), 10)
	case FOwner:
		if e.OwnerNull {
			return append(dst, "null"...)
		}
		return strconv.AppendUint(dst, uint64(e.Owner), 10)
	case FWith:
		return appendWith(dst, e.With)
	case FNS:
		return strconv.AppendInt(dst, e.NS, 10)
	case FBy:
		if e.Kind == Use {
			return strconv.AppendUint(dst, uint64(e.User), 10)
		}
		return AppendString(dst, e.By)
	case FSize:
		return strconv.AppendInt(dst, e.Size, 10)
	case FTo:
		return strconv.AppendUint(dst, uint64(e.To), 10)
	case FEntry:
		return AppendString(dst, e.Entry)
	case FVia:
		return strconv.AppendUint(dst, uint64(e.Via), 10)
	case FHow:
		return AppendString(dst, e.How)
	case FSite:
		return AppendString(dst, e.Site)
	case FAll:
		return strconv.AppendBool(dst, e.All)
	case FThread:
		return AppendString(dst, e.Thread)
	case FCount:
		return strconv.AppendInt(dst, e.Count, 10)
	case FState:
		return AppendString(dst, e.State)
	case FError:
		return AppendString(dst, e.Error)
	case FWhy:
		return AppendString(dst, e.Why)
	case FOptional:
		return strconv.AppendBool(dst, e.Optional)
	case FFor:
		return strconv.AppendUint(dst, uint64(e.For), 10)
	case FPath:
		return appendStrings(dst, e.Path)
	case FLost:
		return strconv.AppendInt(dst, e.Lost, 10)
	}
	return append(dst, "null"...)
}

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
		for j := i; j < len(list) && list[j].All && list[j].Slot == list[i].Slot; j++ {
			if j > i {
				dst = append(dst, ',')
			}
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

// MaxText is the longest text in bytes that a trace may have in a field.
const MaxText = 4096

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
