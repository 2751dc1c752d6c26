package cli

import (
	"context"
	"errors"
	"os/exec"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/watch"
	"oakenchest/core/workspace"
)

func newWatch(a *App) *cobra.Command {
	var s watch.Session
	var lasts, every, news string
	var noLocks, desktop bool
	cmd := &cobra.Command{
		Use:   "watch",
		Short: "Follow the workspace while you work",
		Long: `Follow the workspace while you work in your own program: as soon as an edit is seen,
the lock that the project requires or advises is taken, the others learn of the edit, and
you learn who else is at the same thing, on which branch or in which workspace, and
whether it would merge. What arrives in the chest is told too. --commit-every records
what changed at intervals. It runs until you stop it (Ctrl+C), or for --for.`,
		Example:           "  oaken watch\n  oaken watch --desktop\n  oaken watch --commit-every 30m -m \"Work in progress on the kelp\"",
		GroupID:           groupAutomation,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			var err error
			if s.NewsEvery, err = service.Length(news); err != nil {
				return usage(cmd, "--news-every takes a time such as 20s, not %q.", news)
			}
			if every != "" {
				if s.CommitEvery, err = service.Length(every); err != nil {
					return usage(cmd, "--commit-every takes a time such as 30m, not %q.", every)
				}
				if s.Message == "" {
					return usage(cmd, "--commit-every needs a message: -m TEXT.")
				}
			}
			if lasts != "" {
				d, err := service.Length(lasts)
				if err != nil {
					return usage(cmd, "--for takes a time such as 2h, not %q.", lasts)
				}
				var stop context.CancelFunc
				ctx, stop = context.WithTimeout(ctx, d)
				defer stop()
			}
			s.TakeLocks, s.Now, s.PollEvery = !noLocks, a.Now, 5*time.Second
			s.Emit = func(e watch.Event) { a.showEvent(e, desktop) }
			return a.watchFiles(ctx, &s)
		},
	}
	f := cmd.Flags()
	f.StringVar(&lasts, "for", "", "stop after `TIME`")
	f.StringVar(&news, "news-every", "20s", "ask the chest for news every `TIME`")
	f.StringVar(&every, "commit-every", "", "commit what changed every `TIME`")
	f.StringVarP(&s.Message, "message", "m", "", "the message of these commits: `TEXT`")
	f.BoolVar(&noLocks, "no-locks", false, "take no locks")
	f.BoolVar(&desktop, "desktop", false, "show what matters as a notice of the desktop too")
	return cmd
}

func (a *App) watchFiles(ctx context.Context, s *watch.Session) error {
	w, err := a.open(ctx)
	if err != nil {
		return err
	}
	s.Root = w.Root
	err = a.acquaint(w)
	if !a.JSON {
		a.Say("%s", a.Paint(screen.Faint, w.Person+" in "+w.Name+", on "+standing(w)+". Ctrl+C ends."))
	}
	if err = errors.Join(err, w.Close()); err != nil {
		return err
	}
	debug.SetGCPercent(40) // a long run, mostly idle: memory is worth more than time
	s.Open = func(ctx context.Context) (*workspace.Workspace, error) { return a.open(ctx) }
	return s.Run(ctx)
}

var eventTones = map[watch.Sort]screen.Tone{watch.Locked: screen.Good, watch.Committed: screen.Good, watch.Contested: screen.Bad,
	watch.Overlaps: screen.Warm,
	watch.Arrived:  screen.Warm, watch.Notice: screen.Warm, watch.Trouble: screen.Bad}

// showEvent writes an event: a line, or one JSON object a line.
func (a *App) showEvent(e watch.Event, desktop bool) {
	if a.JSON {
		a.printLine(result.EventOf(e))
	} else {
		a.Say("%s  %s  %s", a.Paint(screen.Faint, e.Time.Local().Format("15:04:05")),
			a.Paint(eventTones[e.Sort], screen.Pad(string(e.Sort), 9)), e.Text)
		if e.Overlap != nil {
			a.showOverlap(*e.Overlap, "            ")
		}
	}
	if desktop && eventTones[e.Sort] != screen.Plain && e.Sort != watch.Locked {
		a.notice(e)
	}
}

// notice shows an event on the desktop, where the program for it is there.
func (a *App) notice(e watch.Event) {
	program, err := exec.LookPath("notify-send")
	if err != nil {
		return
	}
	_ = exec.Command(program, "--app-name=oaken", "Oaken Chest", e.Text).Run() // the terminal has told it
}
