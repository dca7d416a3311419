package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace"
)

// Completion: a shell's script asks the program itself what may stand next (the option --generate-shell-completion of package cli), and
// offers the names of files where the program knows nothing. The words are passed on as they are: nothing of them is run.

const bashScript = `# tarn: completion for bash. In ~/.bashrc: source <(tarn completion bash)
_tarn() {
  local cur="${COMP_WORDS[COMP_CWORD]}" words=("${COMP_WORDS[@]:1:COMP_CWORD-1}") line
  [[ "$cur" == -* ]] && words+=("$cur")
  COMPREPLY=()
  while IFS= read -r line; do
    line="${line%%:*}"
    [[ "$line" == "$cur"* ]] && COMPREPLY+=("$line")
  done < <("${COMP_WORDS[0]}" "${words[@]}" --generate-shell-completion 2>/dev/null)
}
complete -o default -o bashdefault -F _tarn tarn
`

const zshScript = `#compdef tarn
# tarn: completion for zsh. In ~/.zshrc: source <(tarn completion zsh)
_tarn() {
  local -a words_before offered
  words_before=("${(@)words[2,CURRENT-1]}")
  [[ "${words[CURRENT]}" == -* ]] && words_before+=("${words[CURRENT]}")
  offered=("${(@f)$("${words[1]}" "${words_before[@]}" --generate-shell-completion 2>/dev/null)}")
  [[ -n "${offered[1]}" ]] && _describe 'tarn' offered
  _files
}
compdef _tarn tarn
`

const fishScript = `# tarn: completion for fish. tarn completion fish > ~/.config/fish/completions/tarn.fish
function __tarn_complete
  set -l before (commandline -opc)
  set -l cur (commandline -ct)
  set -e before[1]
  string match -q -- '-*' $cur; and set -a before $cur
  tarn $before --generate-shell-completion 2>/dev/null | string replace -r ':' \t
end
complete -c tarn -a '(__tarn_complete)'
`

const pwshScript = `# tarn: completion for PowerShell. In $PROFILE: tarn completion pwsh | Out-String | Invoke-Expression
Register-ArgumentCompleter -Native -CommandName tarn -ScriptBlock {
  param($word, $ast, $position)
  $before = @($ast.CommandElements | Select-Object -Skip 1 |
    Where-Object { $_.Extent.EndOffset -lt $position } | ForEach-Object { $_.ToString() })
  if ($word -like '-*') { $before += $word }
  & tarn @before --generate-shell-completion 2>$null | ForEach-Object { ($_ -split ':')[0] } |
    Where-Object { $_ -like "$word*" } | ForEach-Object {
    [System.Management.Automation.CompletionResult]::new($_, $_, 'ParameterValue', $_) }
}
`

func (a *app) completion() *cli.Command {
	scripts := map[string]string{"bash": bashScript, "zsh": zshScript, "fish": fishScript, "pwsh": pwshScript}
	return &cli.Command{Name: "completion", Usage: "print the completion script for bash, zsh, fish or pwsh", ArgsUsage: "SHELL",
		HideHelpCommand: true,
		UsageText:       "tarn completion bash|zsh|fish|pwsh\n\nExample: source <(tarn completion bash)",
		Action: func(_ context.Context, cmd *cli.Command) error {
			script, ok := scripts[cmd.Args().First()]
			if !ok || cmd.Args().Len() != 1 {
				return wrongUse("name the shell: tarn completion bash, zsh, fish or pwsh")
			}
			_, err := fmt.Fprint(a.out, script)
			return err
		}}
}

// completes gives every command the values of its options and arguments, beside what package cli offers.
func (a *app) completes(c *cli.Command) {
	if len(c.Commands) > 0 {
		return
	}
	c.ShellComplete = func(ctx context.Context, cmd *cli.Command) {
		before := os.Args[:max(len(os.Args)-1, 0)] // without the option that asks
		last := ""
		if len(before) > 0 {
			last = before[len(before)-1]
		}
		if values := a.valuesOf(ctx, c.Name, strings.TrimLeft(last, "-")); strings.HasPrefix(last, "-") && values != nil {
			a.offer(values)
			return
		}
		if strings.HasPrefix(last, "-") {
			cli.DefaultCompleteWithFlags(ctx, cmd)
			return
		}
		a.offer(a.valuesOf(ctx, c.Name, ""))
	}
}

func (a *app) offer(values []string) {
	for _, v := range values {
		fmt.Fprintln(a.out, strings.ReplaceAll(v, ":", "\\:"))
	}
}

// optionWords are the words that an option may be, in every command that has it or in the one named before it; any other is wrong use.
var optionWords = map[string][]string{
	"kind":      media.Kinds,
	"role":      {model.Viewer, model.Artist, model.Lead, model.Owner},
	"news mail": {news.AtOnce, news.Daily, news.Never},
	"desktop":   {"on", "off"},
	"use":       {workspace.UseMine, workspace.UseTheirs, workspace.UseBoth, workspace.UseCopy},
	"edits":     {"send", "put-away", "leave"},
	"ending":    lock.EndingWords(),
}

func wordsOf(command, option string) []string {
	if words := optionWords[command+" "+option]; words != nil {
		return words
	}
	return optionWords[option]
}

// valuesOf are what an option of a command may be, or, with none, what its arguments may be; nil where nothing is known.
func (a *app) valuesOf(ctx context.Context, command, option string) []string {
	if words := wordsOf(command, option); words != nil {
		return words
	}
	switch option {
	case "preset":
		return presetNames()
	case "by", "person":
		return a.handles(ctx)
	case "project":
		return a.projectKeys(ctx)
	case "branch", "into":
		return a.branchNames(ctx)
	case "at", "to":
		return append(a.milestoneNames(ctx), a.branchNames(ctx)...)
	case "":
	default:
		return nil
	}
	switch command {
	case "join", "show-project", "limit":
		return a.projectKeys(ctx)
	case "remove", "add":
		return a.handles(ctx)
	case "switch", "merge", "done", "close", "reopen":
		return a.branchNames(ctx)
	case "completion":
		return []string{"bash", "zsh", "fish", "pwsh"}
	case "preset":
		return presetNames()
	case "news":
		var names []string
		for _, k := range news.Kinds() {
			names = append(names, k.Name)
		}
		return names
	}
	return nil
}

func presetNames() (names []string) {
	for _, p := range rules.Presets() {
		names = append(names, p.Name)
	}
	return names
}

// asking is how long completion waits for the service: somebody has pressed a key.
const asking = 2 * time.Second

// inProject asks the service something of the project of the folder that one is in.
func inProject[T any](ctx context.Context, a *app, ask func(ctx context.Context, w *workspace.Workspace) (T, error)) (v T, ok bool) {
	ctx, stop := context.WithTimeout(ctx, asking)
	defer stop()
	w, err := a.open()
	if err != nil {
		return v, false
	}
	defer w.Close()
	v, err = ask(ctx, w)
	return v, err == nil
}

// named are the names of a list.
func named[T any](list []T, name func(T) string) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = name(t)
	}
	return out
}

func (a *app) handles(ctx context.Context) []string {
	members, _ := inProject(ctx, a, func(ctx context.Context, w *workspace.Workspace) (model.Members, error) {
		return w.Client.Members(ctx, w.Marker.Project)
	})
	return named(members.Members, func(m model.Member) string { return m.Handle })
}

func (a *app) milestoneNames(ctx context.Context) []string {
	list, _ := inProject(ctx, a, func(ctx context.Context, w *workspace.Workspace) (model.Milestones, error) {
		return w.Client.Milestones(ctx, w.Marker.Project)
	})
	return named(list.Milestones, func(m model.Milestone) string { return m.Name })
}

func (a *app) branchNames(ctx context.Context) []string {
	list, _ := inProject(ctx, a, func(ctx context.Context, w *workspace.Workspace) (model.Branches, error) {
		return w.Client.Branches(ctx, w.Marker.Project)
	})
	return named(list.Branches, func(b model.Branch) string { return b.Name })
}

func (a *app) projectKeys(ctx context.Context) (out []string) {
	ctx, stop := context.WithTimeout(ctx, asking)
	defer stop()
	c, err := a.clientFor("")
	if err != nil {
		return nil
	}
	list, err := c.Projects(ctx)
	if err != nil {
		return nil
	}
	for _, p := range list.Projects {
		out = append(out, p.Key)
	}
	slices.Sort(out)
	return out
}
