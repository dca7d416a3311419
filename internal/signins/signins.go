// Package signins keeps a person's sign-ins on a machine: a credential for each service, and which was used last.
package signins

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
)

// Kept are the sign-ins, by the address of the service; Current is that of the one used last, "" where there is none.
type Kept struct {
	Current  string            `json:"current"`
	Services map[string]SignIn `json:"services"`
}

// SignIn is one of them.
type SignIn struct {
	Handle string `json:"handle"`
	Token  string `json:"token"`
	// Plain says that the person knows that what goes there is not encrypted.
	Plain bool `json:"plain_http,omitempty"`
}

func file() string { return filepath.Join(xdg.ConfigHome, "kettle-tarn", "sign-ins.json") }

// Read reads them; none where nothing was kept yet.
func Read() (k Kept, err error) {
	text, err := os.ReadFile(file())
	if errors.Is(err, fs.ErrNotExist) {
		return Kept{Services: map[string]SignIn{}}, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &k)
	}
	if err != nil {
		return k, fmt.Errorf("the kept sign-ins in %s can't be read (%w); remove the file and sign in again", file(), err)
	}
	if k.Services == nil {
		k.Services = map[string]SignIn{}
	}
	return k, nil
}

// Write keeps them, in a file that only the person can read.
func (k Kept) Write() error {
	text, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file()), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(file()), "new-")
	if err != nil {
		return err
	}
	_, err = f.Write(append(text, '\n'))
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(f.Name(), file())
	}
	return err
}

// Access is what it takes to talk to a service. Handle is "" where the token came from the environment.
type Access struct {
	URL, Token, Handle string
}

// For is the access to the service at an address ("" for the one signed in to last). TARN_URL and TARN_TOKEN come first; a token from the
// environment goes to no other address than TARN_URL or the kept one.
func For(address string) (a Access, err error) {
	k, err := Read()
	if err != nil {
		return a, err
	}
	current := k.Current
	if v := os.Getenv("TARN_URL"); v != "" {
		if address, err = client.CheckURL(v); err != nil {
			return a, fmt.Errorf("TARN_URL: %w", err)
		}
		current = address
	}
	if address == "" {
		address = current
	}
	if address == "" {
		return a, model.NewProblem(model.NotSignedIn, "sign in with tarn sign-in URL; your lead knows the address", "you are not signed in")
	}
	if !client.Safe(address) && !k.Services[address].Plain && os.Getenv("TARN_PLAIN_HTTP") != "1" {
		return a, Unsafe(address)
	}
	a = Access{URL: address, Token: k.Services[address].Token, Handle: k.Services[address].Handle}
	if v := os.Getenv("TARN_TOKEN"); v != "" && address == current {
		a.Token, a.Handle = v, ""
	}
	return a, nil
}

// Unsafe is the problem of an address to which credentials would go in the open.
func Unsafe(address string) error {
	return model.NewProblem(model.NotAllowed, "use its https address; where the network between is yours alone, tarn sign-in --plain-http "+
		"says that you know (TARN_PLAIN_HTTP=1 in scripts)",
		"%s is not encrypted: everybody between here and there could read your credential and change what comes back", address)
}
