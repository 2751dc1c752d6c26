// Command man writes the manual pages of all commands into a folder, from the program's own help:
//
//	go run ./tools/man bin/man
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"oakenchest/cli"
	"oakenchest/docs"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "man: name the folder for the pages")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "man:", err)
		os.Exit(1)
	}
}

func write(folder string) error {
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return err
	}
	root := cli.Commands()
	for _, t := range docs.Topics() { // a page each, as of a command
		root.AddCommand(&cobra.Command{Use: "help-" + t.Name, Short: t.Title, Long: t.Text, Run: func(*cobra.Command, []string) {}})
	}
	date := time.Unix(0, 0).UTC() // the same pages from the same sources
	header := &doc.GenManHeader{Title: "OAKEN", Section: "1", Date: &date, Source: "Oaken Chest " + cli.Version, Manual: "Oaken Chest"}
	if err := doc.GenManTree(root, header, folder); err != nil {
		return err
	}
	pages, err := filepath.Glob(filepath.Join(folder, "*.1"))
	if err != nil || len(pages) == 0 {
		return fmt.Errorf("no page was written: %w", err)
	}
	for _, p := range pages { // the package that writes them signs them
		text, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		body, _, _ := strings.Cut(string(text), "\n.SH HISTORY")
		if err := os.WriteFile(p, []byte(body+"\n"), 0o666); err != nil {
			return err
		}
	}
	fmt.Println(len(pages), "pages in", folder)
	return nil
}
