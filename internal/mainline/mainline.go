// Package mainline is the team's git repository beside a workspace, seen through git's own command line (git 2.30 or later). It reads
// commits, contents and the index, and changes nothing but what it is asked to: the index, an ignore file's block, hooks. It knows nothing
// of the service.
//
// Where the workspace is a folder inside the repository, everything here is about that folder: paths are relative to it.
package mainline

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/pin"
	"kettletarn/internal/core/rules"
)

// Repo is a git repository with a work tree, seen from a folder in it. Safe for concurrent use.
type Repo struct {
	// Top is the root of the work tree; Dir the folder that all paths are relative to; Prefix the way from Top to Dir, "" or with a slash at
	// its end.
	Top, Dir, Prefix string
	// Home is the repository's own folder (git rev-parse --absolute-git-dir).
	Home string
	env  []string
}

// ErrNone says that a folder lies in no git repository.
var ErrNone = errors.New("this folder does not lie in a git repository")

// Find opens the repository that dir lies in. Where there is none, the error wraps ErrNone.
func Find(ctx context.Context, dir string) (*Repo, error) {
	r := &Repo{Dir: dir, env: environment()}
	out, err := r.text(ctx, "rev-parse", "--show-toplevel", "--absolute-git-dir", "--show-prefix")
	var failed *Failed
	if errors.As(err, &failed) && strings.Contains(failed.Said, "not a git repository") {
		return nil, fmt.Errorf("%s: %w", dir, ErrNone)
	}
	if err != nil {
		return nil, err
	}
	lines := strings.Split(out+"\n", "\n")
	if len(lines) < 3 || lines[0] == "" {
		return nil, fmt.Errorf("%s: %w with a work tree", dir, ErrNone)
	}
	r.Top, r.Home, r.Prefix = filepath.FromSlash(lines[0]), filepath.FromSlash(lines[1]), lines[2]
	return r, nil
}

// environment is that of this process without what a hook's caller set for one repository: it is found anew from the folder. The index is
// kept, since a commit may be made from another one.
func environment() []string {
	var env []string
	for _, entry := range os.Environ() {
		name, value, _ := strings.Cut(entry, "=")
		switch name {
		case "GIT_DIR", "GIT_WORK_TREE", "GIT_PREFIX", "GIT_OBJECT_DIRECTORY", "GIT_COMMON_DIR", "GIT_NAMESPACE", "GIT_EXTERNAL_DIFF",
			"GIT_LITERAL_PATHSPECS":
			continue
		case "GIT_INDEX_FILE":
			if full, err := filepath.Abs(value); err == nil {
				entry = name + "=" + full
			}
		}
		env = append(env, entry)
	}
	return append(env, "LC_ALL=C.UTF-8", "GIT_TERMINAL_PROMPT=0", "GIT_OPTIONAL_LOCKS=0", "GIT_NO_LAZY_FETCH=1")
}

// Failed is a git command that ended with a status other than 0.
type Failed struct {
	Args   []string
	Status int
	Said   string
}

func (f *Failed) Error() string {
	said := strings.TrimSpace(f.Said)
	if said == "" {
		said = fmt.Sprintf("it ended with status %d", f.Status)
	}
	return fmt.Sprintf("git %s: %s", f.Args[0], assetpath.Printable(strings.ReplaceAll(said, "\n", "; ")))
}

// always stands before every command: what a person's settings may say of the first would change what is read; the last four keep large
// contents, and what of the packs is mapped, out of memory.
var always = []string{"-c", "core.quotePath=false", "-c", "core.fsmonitor=false", "-c", "log.showSignature=false", "-c",
	"log.showRoot=true",
	"-c", "i18n.logOutputEncoding=UTF-8", "-c", "diff.renameLimit=4000", "-c", "core.commitGraph=true", "-c", "core.bigFileThreshold=32m",
	"-c", "core.packedGitWindowSize=16m", "-c", "core.packedGitLimit=64m", "-c", "core.deltaBaseCacheLimit=32m"}

func (r *Repo) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append(append([]string{}, always...), args...)...)
	cmd.Dir, cmd.Env = r.Dir, r.env
	return cmd
}

// run runs git and returns what it printed.
func (r *Repo) run(ctx context.Context, input []byte, args ...string) ([]byte, error) {
	cmd := r.command(ctx, args...)
	var out, said bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(input), &out, &said
	err := explain(ctx, cmd.Run(), &said, args)
	return out.Bytes(), err
}

// explain makes an error of how a command ended.
func explain(ctx context.Context, err error, said *bytes.Buffer, args []string) error {
	var ended *exec.ExitError
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, exec.ErrNotFound):
		return errors.New("git is not installed here, or not on the path; install it, then run the command again")
	case errors.As(err, &ended):
		return &Failed{Args: args, Status: ended.ExitCode(), Said: said.String()}
	}
	return err
}

// text is run for a line or a few.
func (r *Repo) text(ctx context.Context, args ...string) (string, error) {
	out, err := r.run(ctx, nil, args...)
	return strings.TrimRight(string(out), "\n"), err
}

// Commit is the full id of the commit that a revision means; an error says that there is none.
func (r *Repo) Commit(ctx context.Context, revision string) (string, error) {
	id, err := r.text(ctx, "rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}")
	id = strings.TrimPrefix(id, "--end-of-options\n")
	var failed *Failed
	if errors.As(err, &failed) {
		return "", fmt.Errorf("the main history has no commit %s", assetpath.Printable(revision))
	}
	return id, err
}

// ErrNoPin says that a commit has no pin.
var ErrNoPin = errors.New("it has no tarn.pin")

// PinAt is the pin as a commit (its full id) has it.
func (r *Repo) PinAt(ctx context.Context, commit string) (p pin.Pin, err error) {
	out, err := r.run(ctx, nil, "cat-file", "blob", commit+":"+r.Prefix+rules.Pin)
	var failed *Failed
	if errors.As(err, &failed) {
		return p, ErrNoPin
	}
	if err != nil {
		return p, err
	}
	return pin.Parse(out)
}

// Stage puts files as they stand, or their absence, into the index. Paths are taken literally.
func (r *Repo) Stage(ctx context.Context, paths ...string) error {
	_, err := r.run(ctx, nil, append([]string{"--literal-pathspecs", "add", "--force", "--"}, paths...)...)
	return err
}

// path is where something of the repository's own lies: linked work trees share most of it.
func (r *Repo) path(ctx context.Context, name string) (string, error) {
	at, err := r.text(ctx, "rev-parse", "--git-path", name)
	if err == nil && !filepath.IsAbs(at) {
		at = filepath.Join(r.Dir, at)
	}
	return at, err
}

// Exclude keeps patterns, as in an ignore file of Dir, out of git's sight in this repository alone: in a block of its info/exclude.
func (r *Repo) Exclude(ctx context.Context, patterns []string) error {
	name, err := r.path(ctx, "info/exclude")
	if err != nil {
		return err
	}
	text, err := os.ReadFile(name)
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	lines := make([]string, len(patterns))
	for i, p := range patterns {
		lines[i] = "/" + r.Prefix + strings.TrimPrefix(p, "/")
	}
	next, err := rules.Fence(text, lines)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, next, 0o644)
}

// Pinned is a commit that moved the pin.
type Pinned struct {
	Commit, Author, Subject string
	At                      int64 // seconds of the Unix epoch
	Pin                     pin.Pin
}

// PinLog lists up to limit commits on the first-parent line of a revision that moved the pin, the latest first. Those whose pin can't be
// read are left out.
func (r *Repo) PinLog(ctx context.Context, revision string, limit int) ([]Pinned, error) {
	out, err := r.run(ctx, nil, "log", "--first-parent", fmt.Sprintf("--max-count=%d", limit), "-z", "--format=%H%x00%aN%x00%at%x00%s",
		"--end-of-options", revision, "--", rules.Pin)
	if err != nil {
		return nil, err
	}
	fields := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	var list []Pinned
	for ; len(fields) >= 4; fields = fields[4:] {
		p := Pinned{Commit: fields[0], Author: fields[1], Subject: fields[3]}
		if _, err := fmt.Sscan(fields[2], &p.At); err != nil {
			continue
		}
		if p.Pin, err = r.PinAt(ctx, p.Commit); err == nil {
			list = append(list, p)
		}
	}
	return list, nil
}
