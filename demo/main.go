// Command demo brings up a whole Kettle Tarn on this machine: PostgreSQL on loopback in a folder of its own, the service, and the
// scenario of a small studio, played through the real client. It stays up until Ctrl-C, which stops everything that it started.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"kettletarn/internal/house/housetest"
	"kettletarn/internal/localpg"
	"kettletarn/internal/postbox"
	"kettletarn/internal/rig"
)

func main() {
	port := flag.Int("port", 7420, "port of the service; PostgreSQL, a mail server that only keeps letters, and a stand-in for the sign-on "+
		"of a house take the next three")
	folder := flag.String("folder", "", "folder for everything (default /var/tmp/kettle-tarn-demo-PORT)")
	bin := flag.String("bin", "bin", "folder with tarn and tarnd")
	reset := flag.Bool("reset", false, "begin anew")
	once := flag.Bool("once", false, "end as soon as the scenario is played")
	flag.Parse()
	if *folder == "" {
		*folder = fmt.Sprintf("/var/tmp/kettle-tarn-demo-%d", *port)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *port, *folder, *bin, *reset, *once); err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, port int, folder, bin string, reset, once bool) error {
	bin, err := filepath.Abs(bin)
	if err != nil {
		return err
	}
	for _, p := range []int{port, port + 1, port + 2} {
		if c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", p), time.Second); err == nil {
			_ = c.Close()
			return fmt.Errorf("port %d is in use, perhaps by another demo; stop that, or run a second one beside it: make demo PORT=%d", p, port+100)
		}
	}
	played := filepath.Join(folder, "played")
	if _, err := os.Stat(played); err != nil || reset {
		// A demo that was cut off while it was played begins anew.
		if err := clear(folder); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, mark), []byte("made by the Kettle Tarn demo; may be removed\n"), 0o644); err != nil {
		return err
	}
	fmt.Println("Starting PostgreSQL on loopback …")
	o := localpg.Options{Folder: filepath.Join(folder, "postgres"), Port: port + 1}
	_, err = os.Stat(played)
	play := err != nil
	if play {
		o.Clock = filepath.Join(folder, "clock")
	}
	pg, err := localpg.Start(ctx, o)
	if err != nil {
		return err
	}
	defer func() { _ = pg.Down() }()
	db, err := pg.Database(ctx, "tarnd")
	if err != nil {
		return err
	}
	fmt.Println("Starting the service …")
	log, err := os.Create(filepath.Join(folder, "tarnd.log"))
	if err != nil {
		return err
	}
	defer log.Close()
	box, mail, err := postbox.Open(fmt.Sprintf("127.0.0.1:%d", port+2), filepath.Join(folder, "letters"))
	if err != nil {
		return err
	}
	defer func() { _ = box.Close() }()
	house, err := housetest.Serve(fmt.Sprintf("127.0.0.1:%d", port+3), atTheHouse()...)
	if err != nil {
		return err
	}
	defer house.Close()
	d := rig.NewDaemon(bin, fmt.Sprintf("127.0.0.1:%d", port), db, filepath.Join(folder, "data"), log)
	d.Env = append(d.Env, "TARND_MAIL=smtp://"+mail, "TARND_MAIL_FROM=Kettle Tarn <tarn@saltpan.example>", "TARND_ADDRESS="+d.URL,
		"TARND_PRICE=0.09", "TARND_PRICE_PERSON=4", "TARND_CURRENCY=EUR", "TARND_HOUSE_ISSUER="+house.URL, "TARND_HOUSE_CLIENT="+house.Client,
		"TARND_HOUSE_SECRET="+house.Secret, "TARND_HOUSE_NAME=Gull & Saltpan", "TARND_HOUSE_MAIL_CHECKED=true")
	if err := d.Start(ctx); err != nil {
		return fmt.Errorf("%w; its log is %s", err, log.Name())
	}
	defer func() { d.Stop() }()
	if play {
		start := time.Now()
		fmt.Println("Playing six weeks of Gull & Saltpan through the real client …")
		s := &stage{ctx: ctx, bin: bin, folder: folder, daemon: d, box: box, clock: pg.SetClock}
		if err := s.play(); err != nil {
			return err
		}
		d.Stop()
		if err := pg.RealClock(ctx); err != nil {
			return err
		}
		if err := d.Start(ctx); err != nil {
			return fmt.Errorf("%w; its log is %s", err, log.Name())
		}
		if err := os.WriteFile(played, nil, 0o644); err != nil {
			return err
		}
		fmt.Printf("Played in %s.\n", time.Since(start).Round(time.Second))
	}
	fmt.Printf("\n  The console is at   %s\n  Sign in as          odile (owner)\n  with passphrase     %s\n\n", d.URL, passphrase("odile"))
	fmt.Printf("  The others are tamsin, rurik, imani, bastien and keiko: lantern-and-HANDLE.\n  Their folders are below %[1]s/people,\n  "+
		"the letters that they got in %[1]s/letters.\n\n", folder)
	fmt.Printf("  \"Sign in with Gull & Saltpan\" leads to a stand-in for the sign-on of a house, which asks for nothing.\n\n")
	if once {
		return nil
	}
	fmt.Println("Ctrl-C stops all of it; make demo starts it again as it is, make demo-reset anew.")
	select {
	case <-ctx.Done():
		fmt.Println("\nStopping …")
		return nil
	case <-d.Ended:
		return fmt.Errorf("the service ended by itself; its log is %s", log.Name())
	}
}

// handles are the studio's people.
var handles = []string{"odile", "tamsin", "rurik", "imani", "bastien", "keiko"}

// atTheHouse are the people of the studio at its own sign-on.
func atTheHouse() (list []housetest.Person) {
	for i, handle := range handles {
		list = append(list, housetest.Person{Subject: fmt.Sprint("saltpan-", i+1), Handle: handle,
			Name: strings.ToUpper(handle[:1]) + handle[1:], Mail: handle + "@saltpan.example", MailChecked: true})
	}
	return list
}

// mark is the file by which a folder is known as the demo's own.
const mark = "kettle-tarn-demo"

// clear removes an earlier demo, and nothing else.
func clear(folder string) error {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(folder, mark)); err != nil {
		return fmt.Errorf("%s is not empty and was not made by the demo; name another folder with FOLDER=", folder)
	}
	return os.RemoveAll(folder)
}
