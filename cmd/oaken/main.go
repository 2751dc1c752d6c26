// Command oaken keeps platform artifacts under version control. See package cli.
package main

import (
	"context"
	"os"
	"os/signal"
	"time"

	"golang.org/x/term"

	"oakenchest/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	os.Exit(run(ctx))
}

func run(ctx context.Context) int {
	app := &cli.App{Out: os.Stdout, Err: os.Stderr, Now: time.Now, Live: term.IsTerminal(int(os.Stderr.Fd()))}
	out := int(os.Stdout.Fd())
	if term.IsTerminal(out) {
		_, noColor := os.LookupEnv("NO_COLOR")
		app.Color = !noColor && os.Getenv("TERM") != "dumb"
		app.Width, _, _ = term.GetSize(out)
	}
	dir, err := os.Getwd()
	if err != nil {
		dir = "."
	}
	app.Dir = dir
	return cli.Run(ctx, app, os.Args[1:])
}
