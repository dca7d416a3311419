package media

import (
	"strconv"
	"strings"
)

// expression is one S-expression: a list with its words and lists in order, or a word. Bounded in depth and number.
type expression struct {
	word string
	list []*expression
	leaf bool
}

const maxExpressions = 4 << 20

// parseExpression reads one list (Rivest, "S-expressions", 1997, in the plain form that EDA programs write: words, and texts in quotes
// with \").
func parseExpression(data []byte) (*expression, error) {
	top := &expression{}
	stack := []*expression{top}
	count := 0
	for i := 0; i < len(data); {
		now := stack[len(stack)-1]
		switch c := data[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
			continue
		case c == '(':
			if len(stack) > maxDepth {
				return nil, unreadable("it is nested too deeply")
			}
			e := &expression{}
			now.list = append(now.list, e)
			stack = append(stack, e)
			i++
		case c == ')':
			if len(stack) == 1 {
				return nil, unreadable("it is damaged: a list ends that did not begin")
			}
			stack = stack[:len(stack)-1]
			i++
			continue
		case c == '"':
			var b strings.Builder
			for i++; ; i++ {
				if i >= len(data) {
					return nil, unreadable("it was cut off")
				}
				if data[i] == '"' {
					break
				}
				if data[i] == '\\' && i+1 < len(data) {
					i++
				}
				b.WriteByte(data[i])
			}
			i++
			now.list = append(now.list, &expression{word: clean(b.String()), leaf: true})
		default:
			start := i
			for i < len(data) && !strings.ContainsRune(" \t\r\n()\"", rune(data[i])) {
				i++
			}
			now.list = append(now.list, &expression{word: clean(string(data[start:i])), leaf: true})
		}
		if count++; count > maxExpressions {
			return nil, unreadable("it has more than %s parts", number(maxExpressions))
		}
	}
	if len(stack) > 1 {
		return nil, unreadable("it was cut off")
	}
	if len(top.list) != 1 || top.list[0].leaf {
		return nil, unreadable("it is no list")
	}
	return top.list[0], nil
}

// name is the first word of a list.
func (e *expression) name() string { return e.text(0) }

// text is the word at a place of a list, "" where there is none.
func (e *expression) text(i int) string {
	if e == nil || i >= len(e.list) || !e.list[i].leaf {
		return ""
	}
	return e.list[i].word
}

// number is the number at a place of a list, 0 where there is none.
func (e *expression) number(i int) float64 {
	f, err := strconv.ParseFloat(e.text(i), 64)
	if err != nil || f != f || f > 1e9 || f < -1e9 {
		return 0
	}
	return f
}

// find is the first list inside of a name; nil, which can be asked like any other, where there is none.
func (e *expression) find(name string) *expression {
	if e != nil {
		for _, x := range e.list {
			if !x.leaf && x.name() == name {
				return x
			}
		}
	}
	return nil
}

// all are the lists inside of any of some names.
func (e *expression) all(names ...string) (out []*expression) {
	if e == nil {
		return nil
	}
	for _, x := range e.list {
		for _, n := range names {
			if !x.leaf && x.name() == n {
				out = append(out, x)
			}
		}
	}
	return out
}

func (e *expression) point(name string) [2]float64 {
	p := e.find(name)
	return [2]float64{p.number(1), p.number(2)}
}

// property is the value of a property by its name.
func (e *expression) property(name string) string {
	for _, p := range e.all("property") {
		if p.text(1) == name {
			return p.text(2)
		}
	}
	return ""
}
