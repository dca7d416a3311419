package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/text"
	"kettletarn/internal/desk"
	"kettletarn/internal/workspace"
	"kettletarn/internal/workspace/watching"
)

func (a *app) watch() *cli.Command {
	return command("watch", "stay running: lock on the first edit, tell others of unsent changes, bring news", "", "tarn watch --auto-update",
		a.looking(0, 0, "watch", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
			if cmd.Bool("unit") {
				return a.printUnit(w, cmd.Bool("auto-update"))
			}
			if at, err := desk.Find(ctx); err == nil && !cmd.IsSet("poll") {
				return a.joinDesk(ctx, cmd, w, at)
			}
			shown := newDesktop()
			o := watching.Options{AutoUpdate: cmd.Bool("auto-update"), Poll: cmd.Duration("poll")}
			return watching.Run(ctx, w, o, func(n watching.Notice) {
				if n.Kind == "online" {
					shown.learn(ctx, w.Client)
				}
				if !cmd.Bool("quiet") {
					shown.show(w.Marker.Project, n, lead{})
				}
				a.printNotice(cmd, n)
			})
		}),
		&cli.BoolFlag{Name: "auto-update", Usage: "bring newer versions by itself where nothing clashes"},
		&cli.DurationFlag{Name: "poll", Usage: "look at the folder so often (5s), in place of being told by the system; for network disks"},
		&cli.BoolFlag{Name: "quiet", Usage: "show nothing on the desktop; what is shown there is chosen under News in the console"},
		&cli.BoolFlag{Name: "unit", Usage: "print a service file for systemd's user manager"})
}

func (a *app) printNotice(cmd *cli.Command, n watching.Notice) {
	if cmd.Bool("json") {
		if line, err := json.Marshal(n); err == nil {
			_, _ = a.out.Write(append(text.JSON(line), '\n'))
		}
		return
	}
	a.say("%s  %s", n.At.Local().Format("15:04:05"), assetpath.Printable(n.Message))
}

// joinDesk prints what the desk, which watches all of the person's workspaces, has to say of this one.
func (a *app) joinDesk(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, at desk.Address) error {
	line, err := at.Dial(ctx)
	if err != nil {
		return err
	}
	defer line.Close()
	id, gone := w.Marker.Workspace, make(chan struct{})
	c := jrpc2.NewClient(line, &jrpc2.ClientOptions{OnStop: func(*jrpc2.Client, error) { close(gone) }, OnNotify: func(r *jrpc2.Request) {
		var n desk.Noticed
		if r.Method() == "noticed" && r.UnmarshalParams(&n) == nil {
			a.printNotice(cmd, n.Notice)
		}
	}})
	defer c.Close()
	if cmd.Bool("auto-update") {
		if _, err := c.Call(ctx, "settings", desk.Settings{In: desk.In{Workspace: id}, AutoUpdate: true}); err != nil {
			return err
		}
	}
	var now desk.Standing
	for range 50 {
		if err = c.CallResult(ctx, "follow", desk.Follow{In: desk.In{Workspace: id}}, &now); err == nil {
			break
		}
		time.Sleep(200 * time.Millisecond) // the watch begins anew where its settings changed
	}
	if err != nil {
		return err
	}
	a.printNotice(cmd, watching.Notice{At: time.Now(), Kind: "watching",
		Message: fmt.Sprintf("your desk watches %s in %s", now.Project, w.Root)})
	if now.Trouble != "" {
		a.printNotice(cmd, watching.Notice{At: time.Now(), Kind: "error", Message: now.Trouble})
	}
	select {
	case <-ctx.Done():
		return nil
	case <-gone:
		return model.NewProblem(model.Unavailable, "run tarn watch again, or tarn desk", "your desk has ended, and nothing is watched now")
	}
}

// unitPath quotes a path for a systemd unit (systemd.syntax(7), systemd.unit(5)).
func unitPath(path string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `%`, `%%`, `$`, `$$`).Replace(path) + `"`
}

func (a *app) printUnit(w *workspace.Workspace, autoUpdate bool) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	command := unitPath(program) + " watch"
	if autoUpdate {
		command += " --auto-update"
	}
	a.say(`# Save this as ~/.config/systemd/user/tarn-watch-%[1]s.service, then:
#   systemctl --user daemon-reload
#   systemctl --user enable --now tarn-watch-%[1]s.service
[Unit]
Description=Kettle Tarn watches %[2]s

[Service]
WorkingDirectory=%[3]s
ExecStart=%[4]s
Restart=on-failure
RestartSec=10

[Install]
WantedBy=default.target`, w.Marker.Project, strings.ReplaceAll(filepath.Base(w.Root), "%", "%%"),
		strings.ReplaceAll(w.Root, "%", "%%"), command)
	return nil
}
