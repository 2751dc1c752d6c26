package screen

import (
	"time"

	"github.com/schollz/progressbar/v3"
)

// bar shows long work on a terminal.
type bar struct {
	line  *progressbar.ProgressBar
	what  string
	began time.Time
}

const progressAfter = 400 * time.Millisecond

// Progress gives the function that core tells how far it is; nil without a terminal.
func (s *Screen) Progress() func(what string, done, total int) {
	if !s.Live || s.Quiet {
		return nil
	}
	p := &s.bar
	return func(what string, done, total int) {
		what = s.Inert(what)
		if p.what != what {
			s.EndProgress()
			p.what, p.began = what, time.Now()
		}
		if time.Since(p.began) < progressAfter {
			return
		}
		if p.line == nil {
			if total == 0 {
				total = -1
			}
			p.line = progressbar.NewOptions(total, progressbar.OptionSetWriter(s.Err), progressbar.OptionSetDescription(what),
				progressbar.OptionClearOnFinish(), progressbar.OptionShowCount(), progressbar.OptionThrottle(100*time.Millisecond))
		}
		_ = p.line.Set(done)
	}
}

// EndProgress takes away what is shown of it.
func (s *Screen) EndProgress() {
	if s.bar.line != nil {
		_ = s.bar.line.Clear()
	}
	s.bar.line, s.bar.what = nil, ""
}
