// Package check runs commands that judge something, with a limit on their time, and keeps
// the end of what they say. A command runs with the rights of whoever calls it, so only a
// project's own rules may name one.
package check

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"
)

// patience is how long the output of a command that was stopped is waited for.
const patience = 2 * time.Second

// MostOutput is how many bytes of a command's output are kept: the last ones.
const MostOutput = 16 << 10

// Run runs a command in a folder. The error says that it did not pass: it failed, could
// not be started, or took longer than within. Variables, NAME=VALUE, are added to those of the process.
func Run(ctx context.Context, command []string, within time.Duration, dir string, variables ...string) (output string, err error) {
	return RunAmong(ctx, os.Environ(), command, within, dir, variables...)
}

// Plain gives those variables of the process that any command may see: where programs are, and how people write here.
func Plain() (out []string) {
	for _, name := range []string{"PATH", "HOME", "LANG", "LC_ALL", "TZ", "TMPDIR", "SYSTEMROOT"} {
		if v, ok := os.LookupEnv(name); ok {
			out = append(out, name+"="+v)
		}
	}
	return out
}

// RunAmong is Run with other variables than those of the process.
func RunAmong(ctx context.Context, among, command []string, within time.Duration, dir string, variables ...string) (output string,
	err error) {
	limited, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var out bytes.Buffer
	cmd := exec.CommandContext(limited, command[0], command[1:]...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &out
	cmd.Env = append(append(slices.Clone(among), "PWD="+dir), variables...)
	cmd.WaitDelay = patience
	err = cmd.Run()
	if limited.Err() != nil && ctx.Err() == nil {
		err = errors.New("it took longer than " + within.String())
	}
	text := out.Bytes()
	if len(text) > MostOutput {
		text = text[len(text)-MostOutput:]
	}
	return strings.ToValidUTF8(string(text), "�"), err
}

// LastLine gives the last line of an output, which mostly says what was wrong.
func LastLine(output string) string {
	last := strings.TrimSpace(output)
	if i := strings.LastIndexByte(last, '\n'); i >= 0 {
		last = last[i+1:]
	}
	return last
}
