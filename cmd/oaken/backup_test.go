package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
)

// TestABackupWhilePeopleWork copies a chest as docs/guide/backup.md says, records first and bytes after, while two
// workspaces commit to it without a pause: the copy opens, and every byte that it names is there.
func TestABackupWhilePeopleWork(t *testing.T) {
	if _, err := exec.LookPath("sqlite3"); err != nil {
		t.Skip("sqlite3 is not here")
	}
	imke, tarek := team(t)
	dir := filepath.Dir(imke.dir)
	for round := range 4 {
		var work sync.WaitGroup
		stop := make(chan struct{})
		for _, p := range []*project{imke, tarek} {
			work.Go(func() {
				for n := 0; ; n++ {
					select {
					case <-stop:
						return
					default:
					}
					p.write("work/"+filepath.Base(p.dir)+".txt", fmt.Sprint(round, n))
					if r := p.run("commit", "-m", fmt.Sprint(n)); r.status != 0 {
						t.Errorf("a commit beside the backup: %d\n%s", r.status, r.err)
						return
					}
				}
			})
		}
		copied := filepath.Join(dir, fmt.Sprint("copy", round))
		if err := os.MkdirAll(copied, 0o777); err != nil {
			t.Fatal(err)
		}
		script := fmt.Sprintf(`sleep 0.3; sqlite3 "%[1]s/chest/ledger.db" ".timeout 10000" ".backup %[2]s/ledger.db" && cd "%[1]s/chest" &&
for pass in 1 2; do tar cf - --exclude 'ledger.db*' . 2>/dev/null | tar xf - -C "%[2]s"; done`, dir, copied)
		out, err := exec.Command("sh", "-c", script).CombinedOutput()
		close(stop)
		work.Wait()
		if err != nil {
			t.Fatalf("the backup: %v\n%s", err, out)
		}
		p := &project{t: t, dir: dir}
		p.ok("open", filepath.Base(copied), fmt.Sprint("try", round), "--as", "Odalys")
		(&project{t: t, dir: filepath.Join(dir, fmt.Sprint("try", round))}).tells("The chest is whole", "health")
	}
}
