// Package prompt asks people at a terminal, and reads from standard input where there is none.
package prompt

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"
)

// Passphrase asks without showing what is typed, twice where it is a new one. Without a terminal it reads one line.
func Passphrase(in io.Reader, errs io.Writer, question string, fresh bool) (string, error) {
	f, ok := in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return Line(in)
	}
	ask := func(question string) (string, error) {
		// Nothing is shown before nothing that is typed is shown: who is fast types on at once.
		before, err := term.MakeRaw(int(f.Fd()))
		if err != nil {
			return "", err
		}
		defer func() { _ = term.Restore(int(f.Fd()), before) }()
		text, err := term.NewTerminal(struct {
			io.Reader
			io.Writer
		}{in, errs}, "").ReadPassword(question + ": ")
		if err == io.EOF {
			err = errors.New("stopped")
		}
		return text, err
	}
	first, err := ask(question)
	if err != nil || !fresh {
		return first, err
	}
	again, err := ask("The same again")
	if err == nil && again != first {
		err = errors.New("the two are not the same; run the command again")
	}
	return first, err
}

// Line reads one line of at most 64 KiB, and nothing behind it: the next question has the next line.
func Line(in io.Reader) (string, error) {
	var text []byte
	for one := make([]byte, 1); len(text) < 64<<10; {
		n, err := in.Read(one)
		if n == 1 && one[0] == '\n' {
			break
		}
		text = append(text, one[:n]...)
		if err == io.EOF && len(text) > 0 {
			break
		}
		if err == io.EOF {
			err = errors.New("nothing came on standard input")
		}
		if err != nil {
			return "", err
		}
	}
	return strings.TrimRight(string(text), "\r"), nil
}

// Interactive tells whether somebody can be asked.
func Interactive(in io.Reader) bool {
	f, ok := in.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Choose asks for one of several words, again until it is one. Without a terminal, or where nothing is answered, it is "".
func Choose(in io.Reader, errs io.Writer, question string, words ...string) string {
	for Interactive(in) {
		fmt.Fprintf(errs, "%s [%s] ", question, strings.Join(words, "/"))
		answer, err := Line(in)
		for _, w := range words {
			if strings.EqualFold(strings.TrimSpace(answer), w) {
				return w
			}
		}
		if err != nil {
			break
		}
	}
	return ""
}

// Confirm asks a yes-or-no question. Without a terminal the answer is no.
func Confirm(in io.Reader, errs io.Writer, question string) bool {
	f, ok := in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return false
	}
	fmt.Fprint(errs, question+" [y/N] ")
	answer, _ := Line(in)
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}
