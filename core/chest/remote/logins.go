package remote

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"github.com/zalando/go-keyring"

	"oakenchest/core/fault"
)

// Logins are the servers at which a person has signed in on this machine. Tokens lie in the system's keyring where there
// is one, else in the file, which its owner alone reads.
type Logins struct {
	File string
	// Apart keeps everything in the file, beside no keyring.
	Apart bool
}

// login is one server of the file.
type login struct {
	Person string `json:"person"`
	ID     string `json:"id"`
	// Token is empty when it lies in the keyring.
	Token       string `json:"token,omitempty"`
	Authorities string `json:"authorities,omitempty"`
}

type loginPages struct {
	Schema  string           `json:"schema"`
	Servers map[string]login `json:"servers"`
}

const loginSchema = "oaken.logins/1"

// keyringName is under which name the keyring keeps tokens.
const keyringName = "oaken"

// keyringVariable turns the keyring off when it is "off".
const keyringVariable = "OAKEN_KEYRING"

// hasKeyring reports whether the system may have one: asking where there is none takes long.
func (l Logins) hasKeyring() bool {
	switch {
	case l.Apart || os.Getenv(keyringVariable) == "off":
		return false
	case runtime.GOOS == "windows" || runtime.GOOS == "darwin":
		return true
	}
	return os.Getenv("DBUS_SESSION_BUS_ADDRESS") != ""
}

func (l Logins) read() (*loginPages, error) {
	p := &loginPages{Schema: loginSchema, Servers: map[string]login{}}
	if l.File == "" {
		return p, nil
	}
	data, err := os.ReadFile(l.File)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		err = json.Unmarshal(data, p)
	}
	if err == nil && p.Schema != loginSchema {
		err = errors.New("it is of another form")
	}
	if err != nil {
		return nil, fault.New(fault.Refused, "Remove it, and sign in again.", "Where you have signed in, %s, can't be read: %w.", l.File,
			err)
	}
	if p.Servers == nil {
		p.Servers = map[string]login{}
	}
	return p, nil
}

// At gives who has signed in at a server; false for nobody.
func (l Logins) At(server string) (Signed, bool, error) {
	p, err := l.read()
	if err != nil {
		return Signed{}, false, err
	}
	x, ok := p.Servers[server]
	if !ok {
		return Signed{}, false, nil
	}
	if x.Token == "" && l.hasKeyring() {
		if x.Token, err = keyring.Get(keyringName, server); err != nil {
			x.Token = ""
		}
	}
	return Signed{Token: x.Token, Person: x.Person, ID: x.ID, Authorities: x.Authorities}, x.Token != "", nil
}

// Servers lists the servers at which somebody has signed in.
func (l Logins) Servers() (out []string, err error) {
	p, err := l.read()
	if err != nil {
		return nil, err
	}
	for s := range p.Servers {
		out = append(out, s)
	}
	return out, nil
}

// Keep notes who has signed in at a server.
func (l Logins) Keep(server string, who Signed) error {
	p, err := l.read()
	if err != nil {
		return err
	}
	x := login{Person: who.Person, ID: who.ID, Token: who.Token, Authorities: who.Authorities}
	if l.hasKeyring() && keyring.Set(keyringName, server, who.Token) == nil {
		x.Token = ""
	}
	p.Servers[server] = x
	return l.write(p)
}

// Forget takes back what Keep noted.
func (l Logins) Forget(server string) error {
	p, err := l.read()
	if err != nil {
		return err
	}
	if l.hasKeyring() {
		_ = keyring.Delete(keyringName, server) // it may not be there
	}
	delete(p.Servers, server)
	return l.write(p)
}

func (l Logins) write(p *loginPages) error {
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	err = os.MkdirAll(filepath.Dir(l.File), 0o700)
	var f *os.File
	if err == nil {
		f, err = os.CreateTemp(filepath.Dir(l.File), "logins-*") // 0600
	}
	if err == nil {
		_, err = f.Write(append(data, '\n'))
		if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
			err = os.Rename(f.Name(), l.File)
		}
		if err != nil {
			os.Remove(f.Name())
		}
	}
	if err != nil {
		return fault.New(fault.Unreachable, "Check that you may write there.", "That you have signed in can't be kept: %w.", err)
	}
	return nil
}
