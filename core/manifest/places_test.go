package manifest

import "testing"

func init() {
	OnDisk("sqlite", Disk{Beside: []string{"-journal", "-wal", "-shm"}})
	OnDisk("folder", Disk{Folder: true})
}

func TestOnlyPathsInsideOfAProjectAreInside(t *testing.T) {
	for target, want := range map[string]bool{
		"sqlite:dev.db": true, "sqlite:./a/dev.db": true, `folder:a\b`: true,
		"sqlite:../dev.db": false, "sqlite:/srv/dev.db": false, `folder:a\..\..\b`: false, "folder:.oaken/x": false, "folder:.": false,
		"sqlite:${HOME}/dev.db": false, "postgres://h/dev": false, "other:dev.db": false, "": false,
	} {
		if got := InsideProject(target); got != want {
			t.Errorf("%q: %v", target, got)
		}
	}
	m := &Manifest{Environments: []Environment{
		{Name: "dev", Site: Site{Target: "sqlite:dev.db", Into: "database"}},
		{Name: "out", Site: Site{Target: "folder:out", Into: "out/site"}},
		{Name: "web", Site: Site{Target: "folder:web", Into: "pages"}},
		{Name: "far", Site: Site{Target: "postgres://h/far.db", Into: "database"}},
	}}
	for p, want := range map[string]bool{"dev.db": true, "dev.db-wal": true, "web": true, "out": false, "far.db": false,
		"//h/far.db":    false,
		"a/.git/config": true, "a/Thumbs.db": true, "a/git": false} {
		if got := m.LeftOut(p); got != want {
			t.Errorf("%s is left out: %v", p, got)
		}
	}
	if !m.Environments[0].Personal() || m.Environments[3].Personal() {
		t.Error("an environment inside of the project is a person's own, one elsewhere is not")
	}
}
