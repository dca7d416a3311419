package daemon

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"kettletarn/internal/backup"
	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/version"
)

// folderOf is the only argument of a command about backups, made whole.
func folderOf(cmd *cli.Command) (string, error) {
	if cmd.Args().Len() != 1 || cmd.Args().First() == "" {
		return "", wrong("name one folder: tarnd %s FOLDER", cmd.Name)
	}
	return filepath.Abs(cmd.Args().First())
}

func makeBackup(ctx context.Context, cmd *cli.Command) error {
	dir, err := folderOf(cmd)
	if err != nil {
		return err
	}
	show, end := shower(cmd.Root().ErrWriter)
	if cmd.Bool("check") {
		out, err := backup.Check(ctx, dir, show)
		end()
		if err != nil {
			return err
		}
		if err := answer(cmd, out, func(w io.Writer) {
			fmt.Fprintf(w, "Looked at %s with %s, %s.\n", count(out.Backups, "backup", "backups"), count(out.Packs, "pack", "packs"),
				humanize.IBytes(uint64(out.Bytes)))
			for _, wrong := range out.Wrong {
				fmt.Fprintln(w, wrong)
			}
			if len(out.Wrong) == 0 {
				fmt.Fprintln(w, "Everything is there and sound.")
			}
		}); err != nil || len(out.Wrong) == 0 {
			return err
		}
		return errDamage
	}
	var out backup.Made
	return opened(ctx, cmd, func(s settings, db *records.DB, svc *service.Service) (_ any, err error) {
		defer end()
		out, err = backup.Make(ctx, backup.Source{URL: s.DB, Store: svc.Store, Version: version.String()}, db, dir, cmd.Bool("keep-all"), show)
		return out, err
	}, func(w io.Writer) {
		fmt.Fprintf(w, "%s is there: a dump of the database (%s) and %s, of which %s copied (%s).\n", out.Name, humanize.IBytes(uint64(out.Dump)),
			count(out.Packs, "pack", "packs"), isAre(out.Copied), humanize.IBytes(uint64(out.Bytes)))
		if len(out.Gone) > 0 {
			fmt.Fprintf(w, "Thinned out: %s.\n", strings.Join(out.Gone, ", "))
		}
		fmt.Fprintf(w, "tarnd backup --check %s reads it through.\n", dir)
	})
}

func isAre(n int) string {
	if n == 1 {
		return "1 was"
	}
	return humanize.Comma(int64(n)) + " were"
}

func restoreBackup(ctx context.Context, cmd *cli.Command) error {
	dir, err := folderOf(cmd)
	if err != nil {
		return err
	}
	s, err := read(cmd)
	if err != nil {
		return err
	}
	at, err := packs(ctx, s)
	if err != nil {
		return err
	}
	show, end := shower(cmd.Root().ErrWriter)
	out, err := backup.Restore(ctx, backup.Source{URL: s.DB, Store: at, Version: version.String()}, dir, cmd.String("at"), show)
	end()
	if err != nil {
		return err
	}
	return answer(cmd, out, func(w io.Writer) {
		fmt.Fprintf(w, "%s is back, with %s (%s): as it was on %s.\n", strings.Join(out.Projects, ", "), count(out.Packs, "pack", "packs"),
			humanize.IBytes(uint64(out.Bytes)), out.At.Local().Format("2 January 2006, 15:04"))
		fmt.Fprintln(w, "Start tarnd serve on it. Folders on people's machines notice, and say how what came after the backup is handed off "+
			"again.")
	})
}
