package daemon

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/service/keeping"
)

func importProject(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 1 || cmd.Args().First() == "" {
		return wrong("name one file: tarnd import FILE --owner HANDLE")
	}
	f, err := os.Open(cmd.Args().First())
	if err != nil {
		return fmt.Errorf("the file can't be read: %w", innermost(err))
	}
	defer f.Close()
	var out *keeping.Imported
	return opened(ctx, cmd, func(_ settings, _ *records.DB, svc *service.Service) (_ any, err error) {
		show, end := shower(cmd.Root().ErrWriter)
		defer end()
		out, err = svc.Import(ctx, f, keeping.ImportOptions{Owner: cmd.String("owner"), Key: cmd.String("key")}, show)
		return out, err
	}, func(w io.Writer) {
		fmt.Fprintf(w, "%s is here: %s with %s (%s), %s, %s, %s.\n", out.Project, count(out.Handoffs, "handoff", "handoffs"),
			count(out.Versions, "version", "versions"), humanize.IBytes(uint64(out.Bytes)), count(out.Branches+1, "branch", "branches"),
			count(out.Milestones, "milestone", "milestones"), count(out.Reviews, "review", "reviews"))
		if len(out.Known) > 0 {
			fmt.Fprintf(w, "Of its people, those who have a handle here are in it with the role that they had: %s.\n", strings.Join(out.Known, ", "))
		}
		if len(out.Named) > 0 {
			fmt.Fprintf(w, "What others did stays under their name: %s.\n", strings.Join(out.Named, ", "))
		}
		fmt.Fprintf(w, "%s owns it. Tie a folder to it with tarn join %s.\n", cmd.String("owner"), out.Project)
	})
}
