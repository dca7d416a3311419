// Command bench measures Kettle Tarn side by side with general-purpose programs, in one run on one machine, and writes the table of
// docs/benchmarks.md. Figures are ratios: absolute times mean nothing elsewhere.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jackc/pgx/v5"

	"kettletarn/internal/localpg"
	"kettletarn/internal/rig"
)

func main() {
	b := &bench{}
	flag.StringVar(&b.bin, "bin", "bin", "folder with tarn and tarnd")
	flag.StringVar(&b.data, "data", "", "a folder of real data to send in place of the made-up one")
	flag.IntVar(&b.runs, "runs", 5, "runs of each measurement")
	out := flag.String("out", "docs/benchmarks.md", "file for the table")
	size := flag.String("size", "4GiB", "size of the first send")
	large := flag.String("large", "10GiB", "size of the large file")
	edit := flag.String("edit", "1GiB", "size of the edited file")
	files := flag.Int("files", 100_000, "files for status")
	scale := flag.Int("assets", 1_000_000, "assets of the large project")
	handoffs := flag.Int("handoffs", 10_000, "handoffs of the large project")
	flag.DurationVar(&b.scrolling, "scrolling", 10*time.Minute, "how long lists are scrolled through for S17")
	only := flag.String("only", "", "comma-separated measurements, like S1,S4")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := b.main(ctx, *out, bytesOf(*size), bytesOf(*large), bytesOf(*edit), *files, *scale, *handoffs, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func bytesOf(text string) int64 {
	n, err := humanize.ParseBytes(text)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(2)
	}
	return int64(n)
}

// bench is one run.
type bench struct {
	ctx       context.Context
	bin, data string
	runs      int
	folder    string
	pg        *localpg.Server
	daemon    *rig.Daemon
	machine   rig.Machine
	rsyncURL  string
	rsyncd    int // its daemon
	projects  int
	rows      []row
	db        string
	grown     []grown
	sends     []sendPoint
	scrolling time.Duration // of S17
}

const passphrase = "salt and brine"

// row is one line of the table.
type row struct{ number, work, ours, theirs, figure, goal, verdict string }

// sample is one measured piece of work.
type sample struct {
	time, cpu time.Duration
	memory    int64
}

func (b *bench) main(ctx context.Context, out string, size, large, edit int64, files, assets, handoffs int, only string) (err error) {
	b.ctx = ctx
	if b.bin, err = filepath.Abs(b.bin); err != nil {
		return err
	}
	if b.folder, err = os.MkdirTemp("/var/tmp", "kettle-tarn-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.folder)
	if err := os.Chmod(b.folder, 0o755); err != nil {
		return err
	}
	stop, err := b.start()
	if err != nil {
		return err
	}
	defer stop()
	if b.data != "" && only == "" {
		only = "S1" // with S2 and S3: what real data can be used for
	}
	for _, m := range []struct {
		name string
		run  func() error
	}{
		// Little content first: ten minutes after much of it came, the service begins to merge packs, and takes a while for it.
		{"S7", b.locks},
		{"S7b", b.watches},
		{"S8", func() error { return b.handoff(10_000) }},
		{"S12", b.trips},
		{"S10", func() error { return b.scale(assets, handoffs) }},
		{"S17", func() error { return b.pages(assets, handoffs) }},
		{"S18", func() error { return b.finding(assets) }},
		{"S14", func() error { return b.apart(assets, files) }},
		{"S16", func() error { return b.kits(1000) }},
		{"S1", func() error { return b.transfer(size) }},
		{"S4", func() error { return b.status(files) }},
		{"S15", func() error { return b.desk(files) }},
		{"S5", func() error { return b.edited("S5", edit, "changed", 2) }},
		{"S6", func() error { return b.edited("S6", edit, "inserted", 2) }},
		{"S9", func() error { return b.memory(large) }},
		{"S11", func() error { return b.stored(20) }},
		{"S13", func() error { return b.adopt(10_000, 2<<30) }},
		{"growth", func() error { return b.growth(edit) }},
	} {
		if only != "" && !slices.Contains(strings.Split(only, ","), m.name) {
			continue
		}
		if err := m.run(); err != nil {
			return fmt.Errorf("%s: %w", m.name, err)
		}
		// After each, so that what was measured stays where the next breaks off.
		if err := b.write(out); err != nil {
			return err
		}
	}
	return nil
}

// start brings up PostgreSQL with its durable defaults, tarnd, an rsync daemon, and one person.
func (b *bench) start() (stop func(), err error) {
	var stops []func()
	end := func() {
		for _, s := range slices.Backward(stops) {
			s()
		}
	}
	defer func() {
		if err != nil {
			end()
		}
	}()
	var db string
	if b.pg, err = localpg.Start(b.ctx, localpg.Options{Folder: filepath.Join(b.folder, "postgres")}); err != nil {
		return nil, err
	}
	stops = append(stops, func() { _ = b.pg.Down() })
	if err := b.roomForClients(); err != nil {
		return nil, err
	}
	if db, err = b.pg.Database(b.ctx, "tarnd"); err != nil {
		return nil, err
	}
	b.db = db
	port, err := localpg.FreePort()
	if err != nil {
		return nil, err
	}
	log, err := os.Create(filepath.Join(b.folder, "tarnd.log"))
	if err != nil {
		return nil, err
	}
	b.daemon = rig.NewDaemon(b.bin, fmt.Sprintf("127.0.0.1:%d", port), db, filepath.Join(b.folder, "data"), log)
	if err := b.daemon.Start(b.ctx); err != nil {
		return nil, err
	}
	stops = append(stops, func() { b.daemon.Stop() })
	if err := b.daemon.AddPerson(b.ctx, "odile", passphrase); err != nil {
		return nil, err
	}
	b.machine = rig.Machine{Bin: b.bin, Home: filepath.Join(b.folder, "home"), Handle: "odile"}
	if err := os.MkdirAll(b.machine.Home, 0o755); err != nil {
		return nil, err
	}
	if _, err := b.tarn(b.machine.Home, passphrase+"\n", "sign-in", b.daemon.URL, "--as", "odile"); err != nil {
		return nil, err
	}
	stopRsync, err := b.rsync()
	if err != nil {
		return nil, err
	}
	stops = append(stops, stopRsync)
	return end, nil
}

// roomForClients lets pgbench have a connection for each of its clients.
func (b *bench) roomForClients() error {
	url, err := b.pg.Database(b.ctx, "settings")
	if err != nil {
		return err
	}
	conn, err := pgx.Connect(b.ctx, url)
	if err != nil {
		return err
	}
	_, err = conn.Exec(b.ctx, "alter system set max_connections = 300")
	if err := errors.Join(err, conn.Close(b.ctx), b.pg.Down()); err != nil {
		return err
	}
	return b.pg.Up(b.ctx)
}

// rsync runs an rsync daemon on loopback over the folder "rsync".
func (b *bench) rsync() (stop func(), err error) {
	port, err := localpg.FreePort()
	if err != nil {
		return nil, err
	}
	target := filepath.Join(b.folder, "rsync")
	if err := os.MkdirAll(target, 0o755); err != nil {
		return nil, err
	}
	config := filepath.Join(b.folder, "rsync.conf")
	text := fmt.Sprintf("use chroot = no\nuid = %d\ngid = %d\naddress = 127.0.0.1\n[m]\npath = %s\nread only = no\n", os.Getuid(), os.Getgid(),
		target)
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		return nil, err
	}
	cmd := exec.Command("rsync", "--daemon", "--no-detach", "--port", strconv.Itoa(port), "--config", config)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	time.Sleep(300 * time.Millisecond)
	b.rsyncd = cmd.Process.Pid
	b.rsyncURL = fmt.Sprintf("rsync://127.0.0.1:%d/m/", port)
	return func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}, nil
}

// tarn runs a command that has to work.
func (b *bench) tarn(dir, input string, args ...string) (result, error) {
	return b.run(b.machine, dir, input, args...)
}

// result is what a command came to. memory is the most that it, or one of its own programs, had resident, in bytes.
type result struct {
	rig.Result
	memory int64
}

func (b *bench) run(m rig.Machine, dir, input string, args ...string) (r result, err error) {
	cmd := m.Command(b.ctx, dir, args...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(input), &out, &errs
	if err := cmd.Start(); err != nil {
		return r, err
	}
	// What the system says afterwards counts this program too, of which the other one is a copy at first.
	ended, most := make(chan struct{}), make(chan int64)
	go func() {
		top := int64(0)
		for {
			top = max(top, peakOfTree(cmd.Process.Pid))
			select {
			case <-ended:
				most <- top
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	err = cmd.Wait()
	close(ended)
	r.memory = <-most
	if cmd.ProcessState == nil {
		return r, err
	}
	r.Result = rig.Result{Status: cmd.ProcessState.ExitCode(), Out: out.String(), Errs: errs.String(),
		CPU: cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()}
	if err = b.ctx.Err(); err == nil && r.Status != 0 {
		err = fmt.Errorf("tarn %s ends with %d: %s", strings.Join(args, " "), r.Status, r.Errs)
	}
	return r, err
}

// peakOfTree is the largest peak of a process and of those that it runs.
func peakOfTree(pid int) int64 {
	most, _ := peak(pid)
	children, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	for _, word := range strings.Fields(string(children)) {
		if child, err := strconv.Atoi(word); err == nil {
			most = max(most, peakOfTree(child))
		}
	}
	return most
}

// ours measures a command of tarn, its share of the service and of PostgreSQL, and the sync after it.
func (b *bench) ours(dir string, args ...string) (sample, error) {
	return b.oursOn(b.machine, dir, args...)
}

func (b *bench) oursOn(m rig.Machine, dir string, args ...string) (sample, error) {
	service, database := treeCPU(b.daemon.Process()), treeCPU(b.pg.Process())
	start := time.Now()
	r, err := b.run(m, dir, "", args...)
	if err != nil {
		return sample{}, err
	}
	syscall.Sync()
	took := time.Since(start)
	service, database = treeCPU(b.daemon.Process())-service, treeCPU(b.pg.Process())-database
	fmt.Printf("  tarn %s: %.2f s; CPU %.2f s here, %.2f s in the service, %.2f s in PostgreSQL\n", args[0], took.Seconds(), r.CPU.Seconds(),
		service.Seconds(), database.Seconds())
	return sample{time: took, cpu: r.CPU + service + database, memory: r.memory}, nil
}

// yardstick measures another program, and the sync after it.
func (b *bench) yardstick(name string, args ...string) (sample, error) {
	cmd := exec.CommandContext(b.ctx, name, args...)
	daemon := treeCPU(b.rsyncd)
	start := time.Now()
	if out, err := cmd.Output(); err != nil {
		return sample{}, fmt.Errorf("%s: %w %.200s", name, err, out)
	}
	syscall.Sync()
	return sample{time: time.Since(start), cpu: cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime() + treeCPU(b.rsyncd) - daemon}, nil
}

// series is many samples of the same work.
type series []sample

func (s series) times() []float64 {
	var out []float64
	for _, one := range s {
		out = append(out, one.time.Seconds())
	}
	slices.Sort(out)
	return out
}

func (s series) median() float64 { t := s.times(); return t[len(t)/2] }

func (s series) String() string {
	t := s.times()
	return fmt.Sprintf("%.2f s (%.2f–%.2f)", t[len(t)/2], t[0], t[len(t)-1])
}

func (s series) cpuPerGiB(size int64) float64 {
	var c []float64
	for _, one := range s {
		c = append(c, one.cpu.Seconds())
	}
	slices.Sort(c)
	return c[len(c)/2] / (float64(size) / (1 << 30))
}

func verdict(ok bool) string {
	if ok {
		return "met"
	}
	return "not met"
}

func (b *bench) row(number, work, ours, theirs, figure, goal string, ok bool) {
	b.rows = append(b.rows, row{number, work, ours, theirs, figure, goal, verdict(ok)})
	fmt.Printf("%s  %s: ours %s, yardstick %s: %s; goal %s: %s\n", number, work, ours, theirs, figure, goal, verdict(ok))
}

func (b *bench) freshKey() string {
	b.projects++
	return fmt.Sprintf("bench-%d", b.projects)
}

// write makes the document.
func (b *bench) write(out string) error {
	var t strings.Builder
	cpu := "a processor that does not say its name"
	if info, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for line := range strings.Lines(string(info)) {
			if name, ok := strings.CutPrefix(line, "model name"); ok {
				cpu = strings.TrimSpace(strings.TrimLeft(name, "\t :"))
				break
			}
		}
	}
	fmt.Fprintf(&t, "# Benchmarks\n\nWritten by `make bench`. What counts is the ratio of two measurements of the same run; times mean "+
		"nothing on other machines.\n\n")
	fmt.Fprintf(&t, "- Machine: %s, %d cores, shared with others\n- Go %s, %s, %s\n- PostgreSQL with its durable defaults; every "+
		"measurement ends with `sync`\n- Median of %d runs, with the least and the most\n- Last run: %s; what a run does not measure stays in "+
		"the table as it was\n\n",
		cpu, runtime.NumCPU(), runtime.Version(), firstLineOf("/usr/lib/postgresql/*/bin/postgres", "--version"),
		firstLineOf("rsync", "--version"), b.runs, time.Now().UTC().Format("2 January 2006"))
	t.WriteString("| | work | Kettle Tarn | yardstick | figure | goal | |\n|---|---|---|---|---|---|---|\n")
	old, _ := os.ReadFile(out)
	for _, line := range b.table(string(old)) {
		t.WriteString(line)
	}
	t.WriteString("\n## As the work grows\n")
	for _, p := range b.pictures() {
		file := strings.TrimSuffix(out, filepath.Ext(out)) + "-" + p.suffix + ".png"
		if err := p.draw(file); err != nil {
			return err
		}
		if _, err := os.Stat(file); err == nil {
			fmt.Fprintf(&t, "\n![%s](%s)\n", p.about, filepath.Base(file))
		}
	}
	// What was found out about the figures is written by hand, and stays.
	if _, notes, ok := strings.Cut(string(old), notesTitle); ok {
		t.WriteString("\n" + notesTitle + notes)
	}
	return os.WriteFile(out, []byte(t.String()), 0o644)
}

// table is the rows of this run, and those that the document had of what this run did not measure.
func (b *bench) table(old string) (lines []string) {
	measured := map[string]bool{}
	for _, r := range b.rows {
		measured[r.number] = true
		lines = append(lines, fmt.Sprintf("| %s | %s | %s | %s | %s | %s | %s |\n", r.number, r.work, r.ours, r.theirs, r.figure, r.goal,
			r.verdict))
	}
	number := func(line string) int {
		n := 0
		_, _ = fmt.Sscanf(line, "| S%d", &n)
		return n
	}
	for line := range strings.Lines(old) {
		label, _, _ := strings.Cut(strings.TrimPrefix(line, "| "), " |")
		if number(line) > 0 && !measured[label] {
			lines = append(lines, line)
		}
	}
	slices.SortStableFunc(lines, func(a, b string) int { return number(a) - number(b) })
	return lines
}

// notesTitle begins what is written by hand in the document.
const notesTitle = "## What holds the figures back"

func firstLineOf(program string, args ...string) string {
	if found, _ := filepath.Glob(program); len(found) > 0 {
		program = found[len(found)-1]
	}
	out, err := exec.Command(program, args...).Output()
	if err != nil {
		return program
	}
	line, _, _ := strings.Cut(string(out), "\n")
	return strings.Join(strings.Fields(line), " ")
}

var errShort = errors.New("the file is shorter than it should be")
