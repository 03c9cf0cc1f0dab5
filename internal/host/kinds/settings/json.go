package settings

import (
	enc "encoding/json"
	"reflect"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// editJSON changes the bytes of single members (RFC 8259) and leaves all others
// as they are, white space as well.
func editJSON(t plan.Task, text string) (string, error) {
	if strings.TrimSpace(text) == "" {
		text = "{}\n"
	}
	if !enc.Valid([]byte(text)) {
		return "", problem.Errorf("the file is not valid JSON").Remedy(byHand)
	}
	return eachSetting(t, text, func(text string, way []string, v any, unset bool) (string, error) {
		before, err := plainJSON(text)
		if err != nil {
			return "", err
		}
		for unset {
			less, err := unsetJSON(text, way)
			if err != nil || less == text { // a name may be there several times
				break
			}
			text = less
		}
		if v = numbered(bareAll(v)); !unset {
			if text, err = setJSON(text, way, v); err != nil {
				return "", err
			}
		}
		after, err := plainJSON(text)
		if err != nil || !reflect.DeepEqual(pruned(after), pruned(meant(before, way, v, unset))) {
			return "", untouched(way)
		}
		return text, nil
	})
}

// plainJSON gives what a text says, numbers as they are written.
func plainJSON(text string) (map[string]any, error) {
	dec := enc.NewDecoder(strings.NewReader(text))
	dec.UseNumber()
	var out any
	if err := dec.Decode(&out); err != nil {
		return nil, err
	}
	table, ok := out.(map[string]any)
	if !ok {
		return nil, problem.Errorf("the file is not a table as a whole").Remedy("declare the whole file")
	}
	return table, nil
}

// member is one member of an object: offsets of its key, and of its value.
type member struct {
	name         string
	at, from, to int
}

// object is an object in a text: from its { to behind its }.
type object struct {
	from, to int
	members  []member
}

// scan reads the object that begins at an offset of a text that is valid JSON.
func scan(text string, at int) object {
	o := object{from: at}
	i := space(text, at+1)
	for text[i] != '}' {
		m := member{at: i}
		i = skip(text, i)
		enc.Unmarshal([]byte(text[m.at:i]), &m.name)
		m.from = space(text, space(text, i)+1)
		m.to = skip(text, m.from)
		o.members = append(o.members, m)
		if i = space(text, m.to); text[i] == ',' {
			i = space(text, i+1)
		}
	}
	o.to = i + 1
	return o
}

func space(text string, i int) int {
	for i < len(text) && strings.IndexByte(" \t\r\n", text[i]) >= 0 {
		i++
	}
	return i
}

// skip gives the offset behind the value that begins at one.
func skip(text string, i int) int {
	switch text[i] {
	case '"':
		for i++; text[i] != '"'; i++ {
			if text[i] == '\\' {
				i++
			}
		}
		return i + 1
	case '{', '[':
		depth := 0
		for ; ; i++ {
			switch text[i] {
			case '"':
				i = skip(text, i) - 1
			case '{', '[':
				depth++
			case '}', ']':
				if depth--; depth == 0 {
					return i + 1
				}
			}
		}
	}
	for i < len(text) && strings.IndexByte(",]} \t\r\n", text[i]) < 0 {
		i++
	}
	return i
}

// find goes down a way of names. It gives the innermost object on it, how far it
// came, and the last member there, if there is one of the next name.
func find(text string, way []string) (o object, deep int, m *member, err error) {
	at := space(text, 0)
	for {
		if text[at] != '{' {
			what := "the whole file"
			if deep > 0 {
				what = strings.Join(way[:deep], ".")
			}
			return o, deep, nil, problem.Errorf("%s is not a table in this file", what).Remedy(sections)
		}
		o, m = scan(text, at), nil
		for i := range o.members {
			if o.members[i].name == way[deep] {
				m = &o.members[i]
			}
		}
		if m == nil || deep == len(way)-1 {
			return o, deep, m, nil
		}
		at, deep = m.from, deep+1
	}
}

func setJSON(text string, way []string, v any) (string, error) {
	o, deep, m, err := find(text, way)
	if err != nil {
		return "", err
	}
	if m != nil {
		var current any
		dec := enc.NewDecoder(strings.NewReader(text[m.from:m.to]))
		dec.UseNumber()
		if dec.Decode(&current); reflect.DeepEqual(current, v) {
			return text, nil
		}
		return text[:m.from] + encode(v) + text[m.to:], nil
	}
	indent, inner, line := style(text, o)
	brace := strings.Trim(line, " ") // nothing, where all is in one line
	out := encode(v)
	for i := len(way) - 1; i > deep; i-- { // the tables on the way that are not there yet
		pad := inner + strings.Repeat(indent, i-deep)
		out = "{" + brace + pad + encode(way[i]) + ": " + out + brace + pad[:len(pad)-len(indent)] + "}"
	}
	out = encode(way[deep]) + ": " + out
	if n := len(o.members); n > 0 {
		last := o.members[n-1].to
		return text[:last] + "," + line + inner + out + text[last:], nil
	}
	outer := strings.TrimSuffix(inner, indent)
	return text[:o.from] + "{" + line + inner + out + line + outer + "}" + text[o.to:], nil
}

// numbered is a value as the decoder gives it: every number in its digits.
func numbered(v any) any {
	return eachLeaf(v, func(leaf any) any {
		switch leaf.(type) {
		case int64, float64:
			text, _ := value.Text(leaf)
			return enc.Number(text)
		}
		return leaf
	})
}

// style is how an object is written: the step by which what is in it is moved
// in, how far its members are, and what parts them.
func style(text string, o object) (indent, inner, line string) {
	margin := func(at int) (string, bool) {
		begin := strings.LastIndexByte(text[:at], '\n') + 1
		pad := text[begin:at]
		return pad, begin > 0 && strings.TrimLeft(pad, " \t") == ""
	}
	outer := ""
	begin := strings.LastIndexByte(text[:o.from], '\n') + 1
	for _, c := range text[begin:o.from] {
		if c != ' ' && c != '\t' {
			break
		}
		outer += string(c)
	}
	if len(o.members) > 0 {
		pad, own := margin(o.members[0].at)
		if !own {
			return "", "", " " // all in one line
		}
		if step := strings.TrimPrefix(pad, outer); step != "" {
			return step, pad, "\n"
		}
		return "  ", pad, "\n"
	}
	return "  ", outer + "  ", "\n"
}

func unsetJSON(text string, way []string) (string, error) {
	o, deep, m, err := find(text, way)
	if err != nil || m == nil || deep < len(way)-1 {
		return text, nil // what is not there is not set
	}
	i := slices.IndexFunc(o.members, func(x member) bool { return x.at == m.at })
	switch {
	case len(o.members) == 1:
		return text[:o.from] + "{}" + text[o.to:], nil
	case i == len(o.members)-1:
		return text[:o.members[i-1].to] + text[m.to:], nil
	}
	return text[:m.at] + text[o.members[i+1].at:], nil
}

func encode(v any) string {
	var b strings.Builder
	e := enc.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.Encode(v) // texts, numbers and bools cannot fail
	return strings.TrimSuffix(b.String(), "\n")
}
