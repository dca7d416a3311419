package projectfile

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"

	"kettletarn/internal/client"
	"kettletarn/internal/core/archive"
	"kettletarn/internal/core/model"
)

// Stream writes a project as a stream of git's fast-import: a commit for each handoff, on its branch, with its author, date and note; tasks
// and stage as trailers; merges with both their parents; milestones as tags. Marks are the numbers of handoffs, and, for contents, numbers
// above all of those.
func Stream(ctx context.Context, c *client.Client, key string, to io.Writer, progress Progress) error {
	members, err := c.Members(ctx, key)
	if err != nil {
		return err
	}
	milestones, err := c.Milestones(ctx, key)
	if err != nil {
		return err
	}
	s := &stream{w: bufio.NewWriterSize(to, 1<<20), marks: map[string]int{}, names: map[string]string{}}
	for _, m := range members.Members {
		s.names[m.Handle] = m.Name
	}
	fmt.Fprint(s.w, "feature done\n")
	if err := walk(ctx, c, key, s, progress); err != nil {
		return err
	}
	for _, m := range milestones.Milestones {
		fmt.Fprintf(s.w, "tag %s\nfrom :%d\ntagger %s\n", reference(m.Name), m.Handoff, s.person(m.Person, m.At.Unix()))
		s.data([]byte(m.Note))
	}
	fmt.Fprint(s.w, "done\n")
	return s.w.Flush()
}

// contentMarks begin above any number of a handoff.
const contentMarks = 1 << 30

type stream struct {
	w     *bufio.Writer
	marks map[string]int
	names map[string]string
}

func (s *stream) has(content string) bool { return s.marks[content] > 0 }
func (*stream) done(int) bool             { return false }

func (s *stream) content(name string, size int64, write func(io.Writer) error) error {
	mark := contentMarks + len(s.marks) + 1
	fmt.Fprintf(s.w, "blob\nmark :%d\ndata %d\n", mark, size)
	e := &exact{s.w, size}
	if err := write(e); err != nil {
		return err
	}
	if e.left != 0 {
		return fmt.Errorf("the content is shorter than was said")
	}
	s.marks[name] = mark
	return s.w.WriteByte('\n')
}

// person is how the stream names somebody: their name or handle, an address that leads nowhere (RFC 2606), and a time.
func (s *stream) person(handle string, unix int64) string {
	name := s.names[handle]
	if name == "" {
		name = handle
	}
	name = strings.NewReplacer("<", "", ">", "", "\n", " ").Replace(name)
	at := strings.NewReplacer("<", "", ">", "", "\n", " ", " ", "-").Replace(handle)
	if at == "" {
		name, at = "nobody", "nobody"
	}
	return fmt.Sprintf("%s <%s@kettle-tarn.invalid> %d +0000", name, at, unix)
}

func (s *stream) data(text []byte) {
	fmt.Fprintf(s.w, "data %d\n", len(text))
	_, _ = s.w.Write(text)
	_ = s.w.WriteByte('\n')
}

func (s *stream) handoff(h model.Handoff, changes []archive.Change) error {
	who := s.person(h.Author, h.At.Unix())
	fmt.Fprintf(s.w, "commit refs/heads/%s\nmark :%d\nauthor %s\ncommitter %s\n", reference(h.Branch), h.Number, who, who)
	note := strings.TrimRight(h.Note, "\n") + "\n"
	if len(h.Tasks) > 0 || h.Stage != "" {
		note += "\n"
	}
	if len(h.Tasks) > 0 {
		note += "Tasks: " + strings.Join(h.Tasks, " ") + "\n"
	}
	if h.Stage != "" {
		note += "Stage: " + h.Stage + "\n"
	}
	s.data([]byte(note))
	for i, p := range h.Parents {
		word := "from"
		if i > 0 {
			word = "merge"
		}
		fmt.Fprintf(s.w, "%s :%d\n", word, p)
	}
	for _, ch := range changes {
		if ch.Gone {
			fmt.Fprintf(s.w, "D %s\n", quoted(ch.Path))
			continue
		}
		mode := "100644"
		if ch.Executable {
			mode = "100755"
		}
		fmt.Fprintf(s.w, "M %s :%d %s\n", mode, s.marks[ch.Content], quoted(ch.Path))
	}
	return s.w.WriteByte('\n')
}

// quoted is a path as the stream has it.
func quoted(path string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := range len(path) {
		switch c := path[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < 0x20 || c == 0x7f:
			fmt.Fprintf(&b, "\\%03o", c)
		default:
			b.WriteByte(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// reference is a name as git takes it for a branch or a tag (git-check-ref-format(1)).
func reference(name string) string {
	name = strings.Map(func(r rune) rune {
		if r <= 0x20 || r == 0x7f || strings.ContainsRune(`~^:?*[\`, r) {
			return '-'
		}
		return r
	}, name)
	for _, bad := range []string{"..", "@{"} {
		name = strings.ReplaceAll(name, bad, "--")
	}
	var parts []string
	for part := range strings.SplitSeq(name, "/") {
		part = strings.Trim(part, ".")
		for strings.HasSuffix(part, ".lock") {
			part = strings.TrimRight(strings.TrimSuffix(part, ".lock"), ".")
		}
		if part != "" {
			parts = append(parts, part)
		}
	}
	name = strings.Join(parts, "/")
	if name == "" || name == "@" {
		return "unnamed"
	}
	return name
}
