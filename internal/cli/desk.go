package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/desk"
	"kettletarn/internal/signins"
	"kettletarn/internal/startmenu"
	"kettletarn/internal/version"
	"kettletarn/web"
)

func (a *app) desk() *cli.Command {
	return command("desk", "the console of your own machine: your files, what came in, who waits for you", "[LINK]", "tarn desk",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 1, "desk [LINK]")
			if err != nil {
				return err
			}
			page, err := pageOf(args)
			if err != nil {
				return err
			}
			switch {
			case cmd.Bool("install"):
				return a.placeDesk(cmd)
			case cmd.Bool("remove"):
				return a.removeDesk(cmd)
			case cmd.Bool("stay"):
				return a.runDesk(ctx, cmd)
			case cmd.Bool("end"):
				return a.endDesk(ctx, cmd)
			}
			at, err := a.reachDesk(ctx)
			if err != nil {
				return err
			}
			link, err := at.Link(ctx, page)
			if err != nil {
				return err
			}
			if cmd.Bool("json") || cmd.Bool("no-open") {
				return a.answer(cmd, map[string]any{"link": link, "process": at.Process}, func() {
					a.say("%s\nIt is good once, for a minute.", link)
				})
			}
			if err := opened(openCommand(link)); err != nil {
				a.note("No browser could be opened (%v). Open this yourself; it is good once, for a minute:", err)
				a.say("%s", link)
				return nil
			}
			a.say("Your desk is open in your browser. It stays there, and watches your workspaces, until tarn desk --end.")
			return nil
		},
		&cli.BoolFlag{Name: "no-open", Usage: "print the link, and open no browser"},
		&cli.BoolFlag{Name: "stay", Usage: "be the desk, here, until Ctrl-C; for a service file"},
		&cli.BoolFlag{Name: "install", Usage: "give it an entry in the start menu, its start when you sign in to the machine, and links of " +
			"tarn:"},
		&cli.BoolFlag{Name: "remove", Usage: "take those away again"},
		&cli.BoolFlag{Name: "end", Usage: "end the desk of this machine"},
		&cli.BoolFlag{Name: "quiet", Usage: "with --stay: show nothing on the desktop"})
}

// pageOf is the page that a link leads to; without one, the work at hand.
func pageOf(args []string) (string, error) {
	if len(args) == 0 {
		return "/desk", nil
	}
	service, page, err := desk.ParseLink(args[0])
	if err != nil {
		return "", err
	}
	if access, err := signins.For(""); service != "" && (err != nil || access.URL != service) {
		return "/desk?" + url.Values{"elsewhere": {service}}.Encode(), nil
	}
	return page, nil
}

func (a *app) placeDesk(cmd *cli.Command) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	placed, err := startmenu.Install(program)
	if err != nil {
		return err
	}
	return a.answer(cmd, map[string]any{"placed": placed}, func() {
		for _, p := range placed {
			a.say("%s: %s", p.What, p.Where)
		}
		a.say("Choose Kettle Tarn in the start menu, or run tarn desk. tarn desk --remove takes this away again.")
	})
}

func (a *app) removeDesk(cmd *cli.Command) error {
	removed, err := startmenu.Remove()
	if err != nil {
		return err
	}
	return a.answer(cmd, map[string]any{"removed": removed}, func() {
		for _, p := range removed {
			a.say("removed: %s", p.Where)
		}
		if len(removed) == 0 {
			a.say("There was nothing to remove.")
		}
	})
}

// reachDesk finds the desk of this machine, and starts it where it does not run, or where the program has been replaced since.
func (a *app) reachDesk(ctx context.Context) (desk.Address, error) {
	at, err := desk.Find(ctx)
	if err == nil && at.Outdated(version.String()) {
		if err := at.End(ctx); err != nil {
			return at, err
		}
		err = desk.ErrNone
	}
	if !errors.Is(err, desk.ErrNone) {
		return at, err
	}
	program, err := os.Executable()
	if err != nil {
		return at, err
	}
	folder := filepath.Join(xdg.StateHome, "kettle-tarn", "desk")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return at, err
	}
	log, err := os.OpenFile(filepath.Join(folder, "log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return at, err
	}
	defer log.Close()
	c := exec.Command(program, "desk", "--stay")
	c.Dir, c.Stdout, c.Stderr = folder, log, log
	apartFromTerminal(c)
	if err := c.Start(); err != nil {
		return at, err
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	for range 200 {
		if at, err := desk.Find(ctx); err == nil {
			return at, nil
		}
		select {
		case <-ctx.Done():
			return at, ctx.Err()
		case <-ended:
			// Another one may have been first.
			if at, err := desk.Find(ctx); err == nil {
				return at, nil
			}
			said, _ := os.ReadFile(log.Name())
			return at, model.NewProblem(model.Internal, "run tarn desk --stay to see what it says", "your desk did not start: %s",
				bytes.TrimSpace(said))
		case <-time.After(50 * time.Millisecond):
		}
	}
	return at, model.NewProblem(model.Internal, "see "+log.Name(), "your desk does not answer")
}

func (a *app) runDesk(ctx context.Context, cmd *cli.Command) error {
	o := desk.Options{Console: web.Files(), Version: version.String(), Log: slog.New(slog.NewTextHandler(a.errs, nil)),
		Open: func(what string) error { return opened(openCommand(what)) }}
	if !cmd.Bool("quiet") {
		var mu sync.Mutex
		shown := map[string]*desktop{}
		o.Notice = func(ctx context.Context, n desk.Shown) {
			mu.Lock()
			d := shown[n.Access.URL]
			if d == nil {
				d = newDesktop()
				shown[n.Access.URL] = d
			}
			mu.Unlock()
			if n.Kind == "online" {
				if c, err := a.clientFor(n.Access.URL); err == nil {
					d.learn(ctx, c)
				}
			}
			d.show(n.Project, n.Notice, lead{n.Page, n.Open})
		}
	}
	return desk.Run(ctx, o, func() {
		if cmd.Bool("json") {
			_ = a.json(map[string]any{"process": os.Getpid()})
			return
		}
		a.say("Your desk runs: tarn desk opens it. Ctrl-C ends it.")
	})
}

func (a *app) endDesk(ctx context.Context, cmd *cli.Command) error {
	at, err := desk.Find(ctx)
	running := err == nil
	if running {
		if err := at.End(ctx); err != nil {
			return err
		}
	}
	return a.answer(cmd, map[string]any{"ended": running}, func() {
		if running {
			a.say("Your desk has ended. Nothing watches your workspaces now.")
		} else {
			a.say("Your desk did not run.")
		}
	})
}

// editor is the local interface on standard input and output, one message a line.
func (a *app) editor() *cli.Command {
	return command("editor", "the local interface for editors, on standard input and output", "",
		`echo '{"jsonrpc":"2.0","id":1,"method":"workspaces"}' | tarn editor`,
		func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "editor"); err != nil {
				return err
			}
			at, err := a.reachDesk(ctx)
			if err != nil {
				return err
			}
			line, err := at.Dial(ctx)
			if err != nil {
				return err
			}
			return a.relay(line)
		})
}

// lastAnswers is how long it is waited for answers once there is nothing more to ask.
const lastAnswers = 10 * time.Minute

// relay carries messages between standard input and output and the desk, until input ends and what was asked is answered.
func (a *app) relay(line *desk.Line) error {
	var open atomic.Int64 // requests that are not answered
	answered, gone := make(chan struct{}, 1), make(chan error, 1)
	go func() {
		for {
			message, err := line.Recv()
			if err == nil {
				_, err = a.raw.Write(append(message, '\n'))
			}
			if err != nil {
				gone <- err
				return
			}
			if id, method := kindOf(message); id && !method {
				open.Add(-1)
				select {
				case answered <- struct{}{}:
				default:
				}
			}
		}
	}()
	asked, end := make(chan []byte), make(chan error, 1)
	go func() {
		in := bufio.NewReaderSize(a.in, 64<<10)
		for {
			message, err := in.ReadBytes('\n')
			if message = bytes.TrimSpace(message); len(message) > 0 {
				asked <- message
			}
			if err != nil {
				end <- err
				return
			}
		}
	}()
	var limit <-chan time.Time // once there is nothing more to ask
	for limit == nil || open.Load() > 0 {
		select {
		case message := <-asked:
			if id, _ := kindOf(message); id {
				open.Add(1)
			}
			if err := line.Send(message); err != nil {
				return deskGone(err)
			}
		case err := <-end:
			if err != io.EOF {
				return err
			}
			limit = time.After(lastAnswers)
		case <-answered:
		case err := <-gone:
			return deskGone(err)
		case <-limit:
			return errors.New("the desk does not answer")
		}
	}
	return line.Close()
}

// kindOf says whether a message has an id and whether it names a method: a request has both, an answer only an id. Of several in one, it is
// enough that one has them; what can't be read is answered by the desk.
func kindOf(message []byte) (id, method bool) {
	type parts struct {
		ID     json.RawMessage `json:"id"`
		Method *string         `json:"method"`
	}
	var list []parts
	if json.Unmarshal(message, &list) != nil {
		var one parts
		if json.Unmarshal(message, &one) != nil {
			return true, true
		}
		list = []parts{one}
	}
	for _, p := range list {
		id, method = id || p.ID != nil, method || p.Method != nil
	}
	return id, method
}

func deskGone(err error) error {
	return model.NewProblem(model.Unavailable, "run the same again; tarn desk starts it", "your desk has ended (%v)", err)
}
