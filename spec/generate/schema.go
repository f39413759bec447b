package main

import (
	"bytes"
	"encoding/json"
	"fmt"
)

// object is a JSON object whose members keep their order.
type object []member

type member struct {
	name  string
	value any
}

// MarshalJSON writes the members in their order.
func (o object) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for n, m := range o {
		if n > 0 {
			b.WriteByte(',')
		}
		name, err := json.Marshal(m.name)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b.Write(name)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

var (
	aText = object{{"type", "string"}}
	aFlag = object{{"type", "boolean"}}
	aNull = object{{"type", "null"}}
)

func orNull(of ...any) object { return object{{"anyOf", append(of, aNull)}} }

// schema returns the JSON Schema of a line.
func (t *formatTable) schema() ([]byte, error) {
	number := func(least int64) object {
		return object{{"type", "integer"}, {"minimum", least}, {"maximum", t.MaxNumber}}
	}
	list := func(required string, members object) object {
		return object{{"type", "array"}, {"items", object{{"type", "object"}, {"required", []string{required}}, {"properties", members}}}}
	}
	one := func(name string, of object) object {
		return object{{"type", "object"}, {"required", []string{name}}, {"properties", object{{name, of}}}}
	}
	longText := object{{"type", "string"}, {"minLength", 1}}
	value := func(f *field) []any {
		switch f.Type {
		case "text":
			of := aText
			if f.Const != "" {
				of = object{{"const", f.Const}}
			}
			if f.Format != "" {
				of = append(of[:len(of):len(of)], member{"format", f.Format})
			}
			if f.NonEmpty {
				of = longText
			}
			return []any{of}
		case "flag":
			return []any{aFlag}
		case "texts":
			return []any{object{{"type", "array"}, {"items", aText}}}
		case "labels":
			return []any{object{{"type", "object"}}}
		case "flow":
			return []any{object{{"type", "string"}}, number(-t.MaxNumber)}
		case "time":
			return []any{number(-t.MaxNumber)}
		case "also":
			return []any{list("service", object{{"service", aText}, {"key", orNull(aText)}})}
		case "needs":
			return []any{list("service", object{
				{"site", orNull(aText)}, {"service", aText}, {"key", orNull(aText)}, {"how", orNull(aText)},
				{"all", orNull(aFlag)}, {"optional", orNull(aFlag)}, {"lazy", orNull(aFlag)},
			})}
		case "part":
			return []any{one("container", number(1)), one("module", longText), one("scope", longText)}
		case "with":
			given := object{{"$ref", "#/$defs/given"}}
			return []any{object{{"type", "array"}, {"items", object{{"anyOf", []any{given, object{{"type", "array"}, {"items", given}}}}}}}}
		}
		return []any{number(types[f.Type].least)}
	}
	var names []string
	var kinds []any
	for _, k := range t.Kinds {
		names = append(names, k.Name)
		then := object{}
		if len(k.Required) > 0 {
			var required []string
			for _, f := range k.Required {
				required = append(required, f.Name)
			}
			then = append(then, member{"required", required})
		}
		properties := object{}
		for _, f := range k.Required {
			properties = append(properties, member{f.Name, value(f)[0]})
		}
		for _, f := range k.Optional {
			properties = append(properties, member{f.Name, orNull(value(f)...)})
		}
		then = append(then, member{"properties", properties})
		if len(k.Either) > 0 {
			var either []any
			for _, name := range k.Either {
				f := k.has(name)
				either = append(either, object{{"required", []string{name}}, {"properties", object{{name, value(f)[0]}}}})
			}
			then = append(then, member{"anyOf", either})
		}
		kinds = append(kinds, object{{"if", object{{"properties", object{{"ev", object{{"const", k.Name}}}}}}}, {"then", then}})
	}
	doc := object{
		{"$schema", "https://json-schema.org/draft/2020-12/schema"},
		{"$id", "urn:keenlantern:trace:1"},
		{"title", "One line of a lantern trace, version 1"},
		{"description", "Unknown fields and unknown kinds are allowed: a reader keeps the former out of its way and counts the latter. An optional field that is null counts as absent, but for make.owner, where null has a meaning."},
		{"type", "object"},
		{"required", []string{"ev"}},
		{"properties", object{{"ev", aText}}},
		{"if", object{{"properties", object{{"ev", object{{"enum", names}}}}}}},
		{"then", object{{"required", []string{"t"}}, {"properties", object{{"t", number(-t.MaxNumber)}}}}},
		{"allOf", kinds},
		{"$defs", object{{"given", object{{"anyOf", []any{
			number(0), aNull,
			object{
				{"type", "object"},
				{"anyOf", []any{
					object{{"required", []string{"inst"}}, {"properties", object{{"inst", number(0)}}}},
					object{{"required", []string{"unknown"}}, {"properties", object{{"unknown", object{{"const", true}}}}}},
				}},
				{"properties", object{
					{"inst", orNull(number(0))}, {"site", orNull(aText)}, {"service", orNull(aText)}, {"key", orNull(aText)}, {"via", orNull(number(1))},
					{"kept", orNull(aFlag)}, {"unknown", orNull(aFlag)},
				}},
			},
		}}}}}},
	}
	text, err := json.Marshal(doc)
	if err != nil {
		return nil, fmt.Errorf("write the schema: %w", err)
	}
	var b bytes.Buffer
	if err := json.Indent(&b, text, "", " "); err != nil {
		return nil, fmt.Errorf("write the schema: %w", err)
	}
	b.WriteByte('\n')
	return b.Bytes(), nil
}
