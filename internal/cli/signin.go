package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/signins"
	"kettletarn/internal/workspace"
)

// clientFor makes a client for the service at an address ("" for the one signed in to last): see signins.For.
func (a *app) clientFor(address string) (*client.Client, error) {
	access, err := signins.For(address)
	if err != nil {
		return nil, err
	}
	return a.newClient(access.URL, access.Token), nil
}

// whose is the handle of whoever a client acts for, where that is known.
func whose(c *client.Client) string {
	access, err := signins.For(c.URL())
	if err != nil {
		return ""
	}
	return access.Handle
}

// newClient makes a client that says so where the service is not heard of for a while.
func (a *app) newClient(address, token string) *client.Client {
	c := client.New(address, token, nil)
	c.Waiting(func(quiet time.Duration) {
		a.note("Waiting for the service at %s: nothing heard for %d s. Ctrl-C stops; nothing is lost.", address, int(quiet.Seconds()))
	})
	return c
}

func (a *app) signIn() *cli.Command {
	return command("sign-in", "sign in to a service, or join by an invitation; keeps the address and the credential", "URL",
		"tarn sign-in https://tarn.example --as tamsin",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 1, "sign-in URL [--as HANDLE]")
			if err != nil {
				return err
			}
			if address, secret, ok := client.ParseInvitation(args[0]); ok {
				return a.joinByLink(ctx, cmd, address, secret)
			}
			address, err := client.CheckURL(args[0])
			if err != nil {
				return usageError{err}
			}
			if !client.Safe(address) && !cmd.Bool("plain-http") {
				return signins.Unsafe(address)
			}
			if _, err := a.newClient(address, "").Service(ctx); err != nil {
				return err
			}
			credential := a.credential
			if cmd.Bool("browser") {
				credential = a.byBrowser
			}
			handle, token, err := credential(ctx, cmd, address)
			if err != nil {
				return err
			}
			s, err := signins.Read()
			if err != nil {
				return err
			}
			s.Current = address
			s.Services[address] = signins.SignIn{Handle: handle, Token: token, Plain: !client.Safe(address)}
			if err := s.Write(); err != nil {
				return err
			}
			return a.answer(cmd, map[string]string{"handle": handle, "service": address}, func() {
				a.say("Signed in to %s as %s. tarn project list shows your projects.", address, handle)
			})
		},
		&cli.StringFlag{Name: "as", Usage: "your handle; asked for where it is left out"},
		&cli.BoolFlag{Name: "plain-http", Usage: "the address is not encrypted, and you know who can listen in"},
		&cli.BoolFlag{Name: "browser", Usage: "say yes in a browser, on this machine or another: with a passkey, or by the sign-on of your " +
			"house"},
		&cli.BoolFlag{Name: "token-stdin", Usage: "read a token from standard input in place of a passphrase"})
}

func (a *app) credential(ctx context.Context, cmd *cli.Command, address string) (handle, token string, err error) {
	if cmd.Bool("token-stdin") {
		if token, err = prompt.Line(a.in); err != nil {
			return "", "", err
		}
		who, err := a.newClient(address, token).Whoami(ctx)
		return who.Handle, token, err
	}
	if handle = cmd.String("as"); handle == "" {
		fmt.Fprint(a.errs, "Handle: ")
		if handle, err = prompt.Line(a.in); err != nil {
			return "", "", err
		}
	}
	passphrase, err := prompt.Passphrase(a.in, a.errs, "Passphrase", false)
	if err != nil {
		return "", "", err
	}
	answer, err := a.newClient(address, "").SignIn(ctx,
		model.SignInRequest{Handle: handle, Passphrase: passphrase, From: "tarn on " + workspace.Machine()})
	return answer.Handle, answer.Token, err
}

// byBrowser signs in by what somebody says in a browser, wherever that is.
func (a *app) byBrowser(ctx context.Context, cmd *cli.Command, address string) (handle, token string, err error) {
	if cmd.IsSet("as") || cmd.Bool("token-stdin") {
		return "", "", wrongUse("--browser asks for nothing here: leave --as and --token-stdin out")
	}
	c := a.newClient(address, "")
	e, err := c.BeginElsewhere(ctx, "tarn on "+workspace.Machine())
	if err != nil {
		return "", "", err
	}
	page := address + e.Path
	a.note("Open %s in any browser, and type %s there. This waits for your yes; Ctrl-C gives up.", page, e.Code)
	go func() { _ = opened(openCommand(page + "?code=" + e.Code)) }()
	answer, err := c.WaitElsewhere(ctx, e)
	return answer.Handle, answer.Token, err
}

func (a *app) signOut() *cli.Command {
	return command("sign-out", "end the sign-in and forget the credential", "", "tarn sign-out",
		func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "sign-out"); err != nil {
				return err
			}
			s, err := signins.Read()
			if err != nil {
				return err
			}
			was, ok := s.Services[s.Current]
			if !ok {
				return model.NewProblem(model.NotSignedIn, "there is nothing to do", "you are not signed in")
			}
			address := s.Current
			ended := a.newClient(address, was.Token).SignOut(ctx)
			delete(s.Services, address)
			s.Current = ""
			if err := s.Write(); err != nil {
				return err
			}
			var problem *model.Problem
			if ended != nil && !errors.As(ended, &problem) {
				fmt.Fprintf(a.errs, "The credential is forgotten here, but the service could not be told: %v\n", ended)
			}
			return a.answer(cmd, map[string]string{"handle": was.Handle, "service": address}, func() { a.say("Signed out of %s.", address) })
		})
}

func (a *app) whoami() *cli.Command {
	return command("whoami", "who is signed in, and where", "", "tarn whoami", func(ctx context.Context, cmd *cli.Command) error {
		if _, err := arguments(cmd, 0, 0, "whoami"); err != nil {
			return err
		}
		c, err := a.clientFor("")
		if err != nil {
			return err
		}
		who, err := c.Whoami(ctx)
		if err != nil {
			return err
		}
		return a.answer(cmd, map[string]any{"handle": who.Handle, "steward": who.Steward, "service": c.URL()}, func() {
			also := ""
			if who.Steward {
				also = ", steward"
			}
			a.say("%s%s at %s", who.Handle, also, c.URL())
		})
	})
}
