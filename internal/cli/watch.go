package cli

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/text"
	"kettletarn/internal/workspace"
)

func (a *app) watch() *cli.Command {
	return command("watch", "stay running: lock on the first edit, tell others of unsent changes, bring news", "", "tarn watch --auto-update",
		a.looking(0, 0, "watch", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
			if cmd.Bool("unit") {
				return a.printUnit(w, cmd.Bool("auto-update"))
			}
			shown := newDesktop()
			return w.Watch(ctx, workspace.WatchOptions{AutoUpdate: cmd.Bool("auto-update"), Poll: cmd.Duration("poll")}, func(n workspace.Notice) {
				if n.Kind == "online" {
					shown.learn(ctx, w)
				}
				if !cmd.Bool("quiet") {
					shown.show(w.Marker.Project, n)
				}
				if cmd.Bool("json") {
					if line, err := json.Marshal(n); err == nil {
						_, _ = a.out.Write(append(text.JSON(line), '\n'))
					}
					return
				}
				a.say("%s  %s", n.At.Local().Format("15:04:05"), assetpath.Printable(n.Message))
			})
		}),
		&cli.BoolFlag{Name: "auto-update", Usage: "bring newer versions by itself where nothing clashes"},
		&cli.DurationFlag{Name: "poll", Usage: "look at the folder so often (5s), in place of being told by the system; for network disks"},
		&cli.BoolFlag{Name: "quiet", Usage: "show nothing on the desktop; what is shown there is chosen under News in the console"},
		&cli.BoolFlag{Name: "unit", Usage: "print a service file for systemd's user manager"})
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
