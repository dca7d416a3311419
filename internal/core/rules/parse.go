package rules

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/dustin/go-humanize"
	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Error is what is wrong with a rules file. Line and Column count from 1; Line is 0 where it is about the whole file.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Message
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Message)
}

// ruleFile is what the file may say. Match is a string or a list of them.
type ruleFile struct {
	About     string       `toml:"about"`
	Presets   []string     `toml:"presets"`
	Otherwise string       `toml:"otherwise"`
	PointOut  string       `toml:"point-out"`
	ReadOnly  bool         `toml:"read-only"`
	Locks     locksText    `toml:"locks"`
	Rule      []ruleText   `toml:"rule"`
	Set       []setText    `toml:"set"`
	Task      []taskText   `toml:"task"`
	Branch    []branchText `toml:"branch"`
	Kit       []kitText    `toml:"kit"`
}

type locksText struct {
	OfferFor       string `toml:"offer-for"`
	AnswerWithin   string `toml:"answer-within"`
	ForgottenAfter string `toml:"forgotten-after"`
	WhenBehind     string `toml:"when-behind"`
}

type ruleText struct {
	Match any    `toml:"match"`
	Kind  string `toml:"kind"`
	Lock  string `toml:"lock"`
}

type taskText struct {
	Match string `toml:"match"`
	Link  string `toml:"link"`
}

type setText struct {
	Match any    `toml:"match"`
	By    string `toml:"by"`
}

var knownKeys = map[string][]string{
	"":       {"about", "presets", "otherwise", "point-out", "read-only", "locks", "rule", "set", "task", "branch", "kit"},
	"locks":  {"offer-for", "answer-within", "forgotten-after", "when-behind"},
	"rule":   {"match", "kind", "lock"},
	"set":    {"match", "by"},
	"task":   {"match", "link"},
	"branch": {"match", "direct", "from", "yes", "yes-by"},
	"kit":    {"name", "match"},
}

// Parse reads a rules file. Its errors are of type *Error, and fit after "tarn.toml: ".
func Parse(text []byte) (*Rules, error) { return parse(text, File, Presets()) }

func parse(text []byte, name string, presets []Preset) (*Rules, error) {
	if len(text) > MaxSize {
		return nil, &Error{Message: fmt.Sprintf("the file is larger than %s", humanize.IBytes(MaxSize))}
	}
	var f ruleFile
	if err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&f); err != nil {
		return nil, explain(err)
	}
	where := locate(text)
	r := &Rules{Presets: f.Presets, Otherwise: Asset, PointOut: DefaultPointOut, Locks: DefaultLocks, ReadOnly: f.ReadOnly,
		List: append([]Rule{}, builtIn...)}
	if f.Otherwise != "" {
		if err := oneOf(f.Otherwise, "otherwise", Asset, Code, Ignored); err != nil {
			return nil, where.at(err, "", 0, "otherwise")
		}
		r.Otherwise = f.Otherwise
	}
	if f.PointOut != "" {
		n, err := humanize.ParseBytes(f.PointOut)
		if err != nil || n == 0 || n > 1<<50 {
			return nil, where.at(fmt.Errorf(`point-out is a size, like "10 MB"; this is %q`, f.PointOut), "", 0, "point-out")
		}
		r.PointOut = int64(n)
	}
	if err := f.Locks.read(&r.Locks, where); err != nil {
		return nil, err
	}
	named := map[string]bool{}
	for i, wanted := range f.Presets {
		if named[wanted] {
			continue // once is enough
		}
		named[wanted] = true
		preset := find(presets, wanted)
		if preset == nil {
			return nil, where.atElement(unknownPreset(wanted, presets), "", 0, "presets", i)
		}
		r.List = append(r.List, preset.rules...)
	}
	count := 0
	for i, t := range f.Rule {
		rule := Rule{Kind: t.Kind, Lock: t.Lock, Origin: Origin{In: name, Line: where.table("rule", i).line}}
		if t.Kind == "" && t.Lock == "" {
			return nil, where.at(errors.New(`this rule says neither what kind its paths are (kind = "asset", "code" or "ignored") nor what their `+
				`lock is needed for (lock = "required", "on-edit" or "free")`), "rule", i, "")
		}
		if t.Kind != "" {
			if err := oneOf(t.Kind, "kind", Asset, Code, Ignored); err != nil {
				return nil, where.at(err, "rule", i, "kind")
			}
		}
		if t.Lock != "" {
			if err := oneOf(t.Lock, "lock", Required, OnEdit, Free); err != nil {
				return nil, where.at(err, "rule", i, "lock")
			}
		}
		var err error
		if rule.Match, rule.patterns, err = where.patterns(t.Match, "rule", i, "match"); err != nil {
			return nil, err
		}
		count += len(rule.patterns)
		r.List = append(r.List, rule)
	}
	for i, t := range f.Set {
		set := Set{By: t.By, Origin: Origin{In: name, Line: where.table("set", i).line}}
		if err := oneOf(t.By, "by", ByStem, ByFolder); err != nil {
			return nil, where.at(err, "set", i, "by")
		}
		var err error
		if set.Match, set.patterns, err = where.patterns(t.Match, "set", i, "match"); err != nil {
			return nil, err
		}
		count += len(set.patterns)
		r.Sets = append(r.Sets, set)
	}
	for i, t := range f.Task {
		link := TaskLink(t)
		if err := link.check(); err != nil {
			return nil, where.at(err, "task", i, "link")
		}
		r.Tasks = append(r.Tasks, link)
	}
	for i, text := range f.Branch {
		b, err := text.read(name, where, i)
		if err != nil {
			return nil, err
		}
		count += len(b.patterns) + len(b.from)
		r.Branches = append(r.Branches, b)
	}
	for i, text := range f.Kit {
		k, err := text.read(name, where, i, r.Kits)
		if err != nil {
			return nil, err
		}
		count += len(k.patterns)
		r.Kits = append(r.Kits, k)
	}
	if count > MaxPatterns {
		return nil, &Error{Message: fmt.Sprintf("the file has %d patterns, and the limit is %d", count, MaxPatterns)}
	}
	return r, nil
}

func (t locksText) read(l *Locks, where places) error {
	for _, d := range []struct {
		key, text string
		never     bool
		into      *time.Duration
	}{{"offer-for", t.OfferFor, false, &l.OfferFor}, {"answer-within", t.AnswerWithin, false, &l.AnswerWithin},
		{"forgotten-after", t.ForgottenAfter, true, &l.ForgottenAfter}} {
		switch n, ok := duration(d.text); {
		case d.text == "":
		case d.text == "never" && d.never:
			*d.into = 0
		case !ok:
			return where.at(fmt.Errorf(`%s is a time between a minute and a year, like "30 minutes", "4 hours" or "3 days"; this is %q`, d.key,
				d.text), "locks", 0, d.key)
		default:
			*d.into = n
		}
	}
	if t.WhenBehind != "" {
		if err := oneOf(t.WhenBehind, "when-behind", "refuse", "warn"); err != nil {
			return where.at(err, "locks", 0, "when-behind")
		}
		l.BehindWarns = t.WhenBehind == "warn"
	}
	return nil
}

// duration reads a number and a unit.
func duration(text string) (d time.Duration, ok bool) {
	var n int64
	var unit string
	if read, err := fmt.Sscanf(text+" .", "%d%s .", &n, &unit); read != 2 || err != nil || n < 1 || n > 1_000_000 {
		return 0, false
	}
	for name, length := range map[string]time.Duration{"minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour,
		"week": 7 * 24 * time.Hour} {
		if strings.TrimSuffix(unit, "s") == name {
			d = time.Duration(n) * length
			return d, d <= 366*24*time.Hour
		}
	}
	return 0, false
}

func unknownPreset(name string, presets []Preset) error {
	names := make([]string, len(presets))
	for i, p := range presets {
		names[i] = p.Name
	}
	return fmt.Errorf("there is no preset %q%s; tarn rules preset lists them", name, meant(name, names))
}

func oneOf(value, key string, words ...string) error {
	for _, w := range words {
		if value == w {
			return nil
		}
	}
	return fmt.Errorf("%s is one of %s; this is %q%s", key, strings.Join(words, ", "), value, meant(value, words))
}

// meant names the word that somebody may have meant.
func meant(word string, words []string) string {
	best, distance := "", len(word)/2+2
	for _, w := range words {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), w); d < distance {
			best, distance = w, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("; did you mean %q?", best)
}

// explain makes an Error of what the decoder says.
func explain(err error) error {
	var missing *toml.StrictMissingError
	if errors.As(err, &missing) && len(missing.Errors) > 0 {
		first := missing.Errors[0]
		key := first.Key()
		e := &Error{}
		e.Line, e.Column = first.Position()
		table, name := "", key[len(key)-1]
		if len(key) > 1 {
			table = key[0]
		}
		e.Message = fmt.Sprintf("the key %q is not known", strings.Join(key, "."))
		if table == "" && (name == "ignore" || name == "ignored") {
			e.Message += `; write a block of its own: [[rule]], match = ["…"], kind = "ignored"`
			return e
		}
		hint := meant(name, knownKeys[table])
		if hint == "" {
			hint = "; known are " + strings.Join(knownKeys[table], ", ")
		}
		e.Message += hint
		return e
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		e := &Error{Message: strings.TrimPrefix(decode.Error(), "toml: ")}
		e.Line, e.Column = decode.Position()
		return e
	}
	return &Error{Message: strings.TrimPrefix(err.Error(), "toml: ")}
}

// place is where something stands in a file.
type place struct{ line, column int }

// places finds things by table ("" for the top), number of the table, key ("" for the table itself) and number in a list (-1 for none).
type places map[spot]place

type spot struct {
	table   string
	number  int
	key     string
	element int
}

func locate(text []byte) places {
	found := places{}
	var p unstable.Parser
	p.Reset(text)
	table, count := "", map[string]int{}
	note := func(key string, element int, raw unstable.Range) {
		s := p.Shape(raw).Start
		number := 0
		if table != "" {
			number = count[table] - 1
		}
		found[spot{table, number, key, element}] = place{s.Line, s.Column}
	}
	for p.NextExpression() {
		e := p.Expression()
		var first *unstable.Node
		for it := e.Key(); it.Next(); {
			if first == nil {
				first = it.Node()
			}
		}
		if first == nil {
			continue
		}
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			table = string(first.Data)
			count[table]++
			note("", -1, first.Raw)
		case unstable.KeyValue:
			key := string(first.Data)
			note(key, -1, first.Raw)
			if v := e.Value(); v.Kind == unstable.Array {
				n := 0
				for it := v.Children(); it.Next(); {
					if it.Node().Kind != unstable.Comment {
						note(key, n, it.Node().Raw)
						n++
					}
				}
			}
		}
	}
	return found
}

func (w places) table(table string, number int) place { return w[spot{table, number, "", -1}] }

func (w places) at(err error, table string, number int, key string) error {
	return w.atElement(err, table, number, key, -1)
}

func (w places) atElement(err error, table string, number int, key string, element int) error {
	for _, s := range []spot{{table, number, key, element}, {table, number, key, -1}, {table, number, "", -1}} {
		if p, ok := w[s]; ok {
			return &Error{Line: p.line, Column: p.column, Message: err.Error()}
		}
	}
	return &Error{Message: err.Error()}
}

// patterns reads the patterns under a key of a rule or a set.
func (w places) patterns(match any, table string, number int, key string) (texts []string, list []pattern, err error) {
	switch m := match.(type) {
	case string:
		texts = []string{m}
	case []any:
		for i, v := range m {
			s, ok := v.(string)
			if !ok {
				return nil, nil, w.atElement(errors.New("a pattern is a text in quotes"), table, number, key, i)
			}
			texts = append(texts, s)
		}
	}
	if len(texts) == 0 {
		return nil, nil, w.at(fmt.Errorf(`it needs %[1]s = "a pattern" or %[1]s = ["one", "another"]`, key), table, number, key)
	}
	for i, text := range texts {
		p, err := compile(text)
		if err != nil {
			return nil, nil, w.atElement(fmt.Errorf("%w: %q", err, text), table, number, key, i)
		}
		p.line = w[spot{table, number, key, i}].line
		if p.line == 0 {
			p.line = w[spot{table, number, key, -1}].line
		}
		list = append(list, p)
	}
	return texts, list, nil
}
