package review

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"strings"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// checkPatience is how long the output of a check that was stopped is waited for.
const checkPatience = 2 * time.Second

// mostOutput is how many bytes of a check's output are kept: the last ones.
const mostOutput = 16 << 10

// checks runs the commands that must pass, in a folder with what the merge comes to. What
// each said is kept with the review.
func (d *Desk) checks(ctx context.Context, r *Review, list []manifest.ReviewCheck, s state.State, progress func(string)) error {
	if len(list) == 0 {
		return nil
	}
	dir, err := os.MkdirTemp("", "oaken-check-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := d.Workspace.LayOut(ctx, s, dir); err != nil {
		return err
	}
	for _, c := range list {
		if progress != nil {
			progress(c.Name)
		}
		output, failed := run(ctx, c, dir)
		kind := ledger.RemarkKind("check:" + c.Name)
		if failed != nil {
			kind = ledger.RemarkKind("failed:" + c.Name)
		}
		if err := d.Workspace.Chest.AddRemark(ctx, ledger.Remark{Review: r.Number, Kind: kind, Tip: r.Tip.ID, Author: d.Workspace.Person, Time: d.now(), Text: output}); err != nil {
			return err
		}
		if failed != nil {
			last := strings.TrimSpace(output)
			if i := strings.LastIndexByte(last, '\n'); i >= 0 {
				last = last[i+1:]
			}
			return fault.New(fault.Refused, "Its output is kept: oaken review show tells it.", "The check %s did not pass (%w): %s", c.Name, failed, last)
		}
	}
	return nil
}

func run(ctx context.Context, c manifest.ReviewCheck, dir string) (string, error) {
	within, cancel := context.WithTimeout(ctx, c.Time())
	defer cancel()
	var out bytes.Buffer
	cmd := exec.CommandContext(within, c.Command[0], c.Command[1:]...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &out
	cmd.WaitDelay = checkPatience
	err := cmd.Run()
	if within.Err() != nil && ctx.Err() == nil {
		err = errors.New("it took longer than " + c.Time().String())
	}
	text := out.Bytes()
	if len(text) > mostOutput {
		text = text[len(text)-mostOutput:]
	}
	return strings.ToValidUTF8(string(text), "�"), err
}
