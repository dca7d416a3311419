package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/service/keeping"
)

func asJSON() cli.Flag { return &cli.BoolFlag{Name: "json", Usage: "print one JSON object"} }

// errDamage ends a command that has said what it found.
var errDamage = errors.New("")

// bytesASecond reads a rate like 50MB/s.
func bytesASecond(text string) (int64, error) {
	n, err := humanize.ParseBytes(strings.TrimSuffix(text, "/s"))
	if err != nil || n == 0 || n > 1<<50 {
		return 0, wrong("%q is not a rate; it looks like 50MB/s", text)
	}
	return int64(n), nil
}

// shower prints how far long work is: on a terminal on one line that is written again and again, elsewhere now and then a line.
func shower(w io.Writer) (show func(what string, done, total int64), end func()) {
	terminal := false
	if f, ok := w.(*os.File); ok {
		terminal = term.IsTerminal(int(f.Fd()))
	}
	pause, last, wrote := 10*time.Second, time.Now(), false
	if terminal {
		pause = 200 * time.Millisecond
	}
	return func(what string, done, total int64) {
			if time.Since(last) < pause {
				return
			}
			last, wrote = time.Now(), true
			line := what
			switch {
			case total > 1<<20:
				line += fmt.Sprintf(" %d%%, %s of %s", done*100/total, humanize.IBytes(uint64(done)), humanize.IBytes(uint64(total)))
			case total > 0:
				line += fmt.Sprintf(" %s of %s", humanize.Comma(done), humanize.Comma(total))
			case done > 0:
				line += " " + humanize.Comma(done)
			}
			if terminal {
				fmt.Fprintf(w, "\r\x1b[K%s", line)
			} else {
				fmt.Fprintln(w, line)
			}
		}, func() {
			if terminal && wrote {
				fmt.Fprint(w, "\r\x1b[K")
			}
		}
}

// kept opens what the commands below work on, and prints what they return.
func kept(ctx context.Context, cmd *cli.Command,
	work func(*service.Service, func(string, int64, int64)) (any, error), say func(io.Writer)) error {
	if cmd.Args().Present() {
		return wrong("%s takes no arguments; see tarnd %s --help", cmd.Name, cmd.Name)
	}
	return opened(ctx, cmd, func(_ settings, _ *records.DB, svc *service.Service) (any, error) {
		show, end := shower(cmd.Root().ErrWriter)
		defer end()
		return work(svc, show)
	}, say)
}

// opened opens the service as the settings say, for one command, and prints what that returns.
func opened(ctx context.Context, cmd *cli.Command, work func(settings, *records.DB, *service.Service) (any, error),
	say func(io.Writer)) error {
	s, err := read(cmd)
	if err != nil {
		return err
	}
	db, svc, err := open(ctx, s, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer db.Close()
	out, err := work(s, db, svc)
	if err != nil {
		return err
	}
	return answer(cmd, out, say)
}

// answer prints what a command found, as one JSON object or in words.
func answer(cmd *cli.Command, v any, say func(io.Writer)) error {
	if cmd.Bool("json") {
		e := json.NewEncoder(cmd.Root().Writer)
		e.SetIndent("", "  ")
		return e.Encode(v)
	}
	say(cmd.Root().Writer)
	return nil
}

// count writes a number with its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(int64(n)) + " " + many
}

func verify(ctx context.Context, cmd *cli.Command) error {
	o := keeping.VerifyOptions{Deep: cmd.Bool("deep")}
	if text := cmd.String("rate"); text != "" {
		var err error
		if o.Rate, err = bytesASecond(text); err != nil {
			return err
		}
	}
	var v *keeping.Verified
	start := time.Now()
	if err := kept(ctx, cmd, func(s *service.Service, show func(string, int64, int64)) (_ any, err error) {
		o.Progress = show
		v, err = s.Verify(ctx, o)
		return v, err
	}, func(w io.Writer) {
		for _, f := range v.Findings {
			fmt.Fprintf(w, "%s: %s\n", f.Project, f.What)
			for i, version := range f.Versions {
				if i == 20 {
					fmt.Fprintf(w, "  and %d more versions\n", len(f.Versions)-i)
					break
				}
				fmt.Fprintf(w, "  touches %s\n", version)
			}
		}
		fmt.Fprintf(w, "Looked at %s: %s with %s, %s, %s with %s", count(v.Projects, "project", "projects"), count(v.Packs, "pack", "packs"),
			count(v.Chunks, "chunk", "chunks"),
			count(v.Contents, "content", "contents"), count(v.Handoffs, "handoff", "handoffs"), count(v.Nodes, "tree node", "tree nodes"))
		if o.Deep {
			fmt.Fprintf(w, "; read %s", humanize.IBytes(uint64(v.Read)))
		}
		fmt.Fprintf(w, "; took %s.\n", time.Since(start).Round(10*time.Millisecond))
		if v.Unused > 0 {
			fmt.Fprintf(w, "%s of damage touch no version; tarnd collect takes them away in time.\n", count(v.Unused, "piece", "pieces"))
		}
		if len(v.Findings) == 0 {
			fmt.Fprintln(w, "Everything is there and sound.")
		} else {
			fmt.Fprintf(w, "%s. Ask those who have the files in a workspace to run tarn heal, then run tarnd verify again.\n",
				count(len(v.Findings), "finding", "findings"))
		}
	}); err != nil {
		return err
	}
	if len(v.Findings) > 0 {
		return errDamage
	}
	return nil
}

func collect(ctx context.Context, cmd *cli.Command) error {
	var c *keeping.Collected
	return kept(ctx, cmd, func(s *service.Service, _ func(string, int64, int64)) (_ any, err error) {
		c, err = s.Collect(ctx, keeping.CollectDefaults())
		return c, err
	}, func(w io.Writer) {
		if *c == (keeping.Collected{}) {
			fmt.Fprintln(w, "There is nothing to collect.")
			return
		}
		fmt.Fprintf(w, "Freed %s: %s and %s are gone, %s written anew.\n", humanize.IBytes(uint64(c.Freed)),
			count(int(c.Chunks), "chunk", "chunks"), count(c.Packs, "pack", "packs"), count(c.Rewritten, "pack was", "packs were"))
		if c.Condemned > 0 {
			fmt.Fprintf(w, "%s more condemned: a run a day from now or later removes what is still unused then.\n",
				count(int(c.Condemned), "chunk was", "chunks were"))
		}
		if c.Projects > 0 {
			fmt.Fprintf(w, "%s removed.\n", count(c.Projects, "deleted project was", "deleted projects were"))
		}
	})
}

func rebuild(ctx context.Context, cmd *cli.Command) error {
	var list []keeping.Rebuilt
	return kept(ctx, cmd, func(s *service.Service, show func(string, int64, int64)) (_ any, err error) {
		list, err = s.Rebuild(ctx, cmd.String("owner"), show)
		return map[string]any{"projects": list}, err
	}, func(w io.Writer) {
		for _, r := range list {
			fmt.Fprintf(w, "%s is back: %s with %s, from %s.\n", r.Project, count(r.Handoffs, "handoff", "handoffs"),
				count(r.Versions, "version", "versions"), count(r.Packs, "pack", "packs"))
			for _, name := range r.Unread {
				fmt.Fprintf(w, "  pack %s can't be read\n", name)
			}
			if r.Lacking > 0 {
				fmt.Fprintf(w, "  the content of %s lacks; tarnd verify says of which, and tarn heal may bring it back\n",
					count(r.Lacking, "version", "versions"))
			}
		}
		if len(list) == 0 {
			fmt.Fprintln(w, "There is no project in the store.")
			return
		}
		fmt.Fprintf(w, "People have no passphrase yet: give them one with tarnd person add HANDLE. Roles, locks and workspaces are not in "+
			"packs;\n%s owns every project and can add the others; everybody ties their folder again with tarn join KEY --here.\n",
			cmd.String("owner"))
	})
}
