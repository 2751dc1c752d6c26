package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"oakenchest/cli/screen"
	"oakenchest/docs"
)

// ofADay are the commands that people use every day, which help shows first.
var ofADay = []string{"changes", "compare", "commit", "sync", "history", "lock", "go"}

// helpWidth is the width of help in columns.
const helpWidth = 80

// newHelp is the command that shows help.
func newHelp(a *App) *cobra.Command {
	var every bool
	cmd := &cobra.Command{
		Use:   "help [COMMAND|TOPIC]",
		Short: "Show help about a command or a topic",
		Long: "Show help about a command, or about a topic. Without one, the commands of a day and\n" +
			"the topics; with --everything, all commands.",
		Example: "  oaken help commit\n  oaken help locks\n  oaken help --everything",
		GroupID: groupStart,
		Args:    cobra.ArbitraryArgs,
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			return a.helpable(cmd.Root(), args), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case every:
				a.helpAll(cmd.Root())
				return nil
			case len(args) == 0:
				a.help(cmd.Root())
				return nil
			}
			if t, ok := topicOf(strings.Join(args, " ")); ok {
				a.showTopic(t)
				return nil
			}
			found, rest, err := cmd.Root().Find(args)
			if err != nil || len(rest) > 0 {
				return unknownCommand(found, strings.Join(rest, " "))
			}
			a.help(found)
			return nil
		},
	}
	cmd.Flags().BoolVar(&every, "everything", false, "list all commands")
	return cmd
}

func topicOf(name string) (docs.Topic, bool) {
	for _, t := range docs.Topics() {
		if t.Name == name {
			return t, true
		}
	}
	return docs.Topic{}, false
}

// helpable lists what help can be asked about.
func (a *App) helpable(root *cobra.Command, args []string) []string {
	at, rest, err := root.Find(args)
	if err != nil || len(rest) > 0 {
		return nil
	}
	var out []string
	for _, c := range at.Commands() {
		if c.IsAvailableCommand() {
			out = append(out, c.Name()+"\t"+c.Short)
		}
	}
	if at == root {
		for _, t := range docs.Topics() {
			out = append(out, t.Name+"\t"+t.Title)
		}
	}
	return out
}

// help shows what there is to know of a command.
func (a *App) help(cmd *cobra.Command) {
	if !cmd.HasParent() {
		a.helpFirst(cmd)
		return
	}
	about := cmd.Long
	if about == "" {
		about = cmd.Short + "."
	}
	a.paragraphs(about)
	a.heading("It reads")
	a.tell("  " + reads(cmd))
	if cmd.HasExample() {
		a.heading("Examples")
		a.tell(cmd.Example)
	}
	if cmd.HasAvailableSubCommands() {
		a.heading("Commands")
		a.shorts(cmd.Commands())
	}
	a.options("Options", cmd.LocalFlags())
	a.options("Options of every command", cmd.InheritedFlags())
}

// reads is how a call of a command reads, with its options.
func reads(cmd *cobra.Command) string {
	switch {
	case cmd.HasAvailableSubCommands() && !strings.Contains(cmd.Use, " "):
		return line(cmd) + " COMMAND"
	case cmd.HasAvailableLocalFlags():
		return line(cmd) + " [OPTIONS]"
	}
	return line(cmd)
}

// helpFirst shows the commands of a day and where there is more.
func (a *App) helpFirst(root *cobra.Command) {
	a.tell(root.Long)
	a.heading("A day with it")
	var day []*cobra.Command
	for _, name := range ofADay {
		i := slices.IndexFunc(root.Commands(), func(c *cobra.Command) bool { return c.Name() == name })
		day = append(day, root.Commands()[i])
	}
	a.shorts(day)
	a.heading("To begin")
	a.tell(root.Example)
	a.heading("More")
	var names []string
	for _, t := range docs.Topics() {
		names = append(names, t.Name)
	}
	a.tell("  oaken guide                       what to do next, here and now")
	a.tell("  oaken help --everything           all commands")
	a.tell("  oaken help COMMAND                one of them, with its options")
	a.tell("  oaken help TOPIC                  " + strings.Join(names[:5], ", ") + ",")
	a.tell("                                    " + strings.Join(names[5:], ", "))
}

// helpAll lists all commands by group.
func (a *App) helpAll(root *cobra.Command) {
	for i, g := range root.Groups() {
		if i > 0 {
			a.tell("")
		}
		a.tell(a.Paint(screen.Strong, g.Title))
		var list []*cobra.Command
		for _, c := range root.Commands() {
			if c.GroupID == g.ID && c.IsAvailableCommand() {
				list = append(list, c)
			}
		}
		a.shorts(list)
	}
	a.options("Options of every command", root.PersistentFlags())
}

// tell writes a line or more of help, which --quiet and --json leave as it is.
func (a *App) tell(text string) { fmt.Fprintln(a.Out, strings.TrimRight(text, "\n")) }

// paragraphs writes a text in lines that fit; what is indented stays as it is.
func (a *App) paragraphs(text string) {
	for i, p := range strings.Split(text, "\n\n") {
		if i > 0 {
			a.tell("")
		}
		if strings.HasPrefix(p, " ") || strings.Contains(p, "\n ") {
			a.tell(p)
			continue
		}
		for _, line := range screen.Wrapped(p, helpWidth) {
			a.tell(line)
		}
	}
}

func (a *App) heading(text string) { a.tell("\n" + a.Paint(screen.Strong, text)) }

// shorts lists commands with a line about each.
func (a *App) shorts(list []*cobra.Command) {
	widest := 0
	for _, c := range list {
		widest = max(widest, len(c.Name()))
	}
	for _, c := range list {
		if c.IsAvailableCommand() {
			a.hanging("  "+c.Name()+strings.Repeat(" ", widest-len(c.Name())+2), c.Short)
		}
	}
}

// options lists options with what each does.
func (a *App) options(title string, flags *pflag.FlagSet) {
	var rows [][2]string
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		value, about := pflag.UnquoteUsage(f)
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if f.Value.Type() != "bool" {
			name += " " + value
		}
		if d := f.DefValue; d != "" && d != "false" && d != "[]" && d != "0" && d != "0s" {
			about += ", " + d + " unless it is said"
		}
		rows = append(rows, [2]string{name, about})
	})
	if len(rows) == 0 {
		return
	}
	a.heading(title)
	widest := 0
	for _, r := range rows {
		widest = max(widest, min(len(r[0]), 28))
	}
	for _, r := range rows {
		a.hanging("  "+r[0]+strings.Repeat(" ", max(widest-len(r[0]), 0)+2), r[1])
	}
}

// hanging writes a text behind a beginning, and goes on below its own first word.
func (a *App) hanging(begin, text string) {
	indent := min(runewidth.StringWidth(begin), 32)
	for i, line := range screen.Wrapped(text, helpWidth-indent) {
		if i == 0 {
			a.tell(begin + line)
		} else {
			a.tell(strings.Repeat(" ", indent) + line)
		}
	}
}

// marked are the signs of a page's markup: what is strong, and what is code.
var marked = regexp.MustCompile("\\*\\*([^*]+)\\*\\*|`([^`]+)`")

// showTopic shows a page on the terminal.
func (a *App) showTopic(t docs.Topic) {
	a.tell(a.Paint(screen.Strong, t.Title))
	a.tell("")
	plainly := func(s string) string { return marked.ReplaceAllString(s, "$1$2") }
	var table [][]string
	flush := func() {
		if table != nil {
			a.topicTable(table[1:]) // its heading says what one sees
			table = nil
		}
	}
	for line := range strings.Lines(t.Text) {
		line = strings.TrimSuffix(line, "\n")
		if strings.HasPrefix(line, "|") {
			if !strings.HasPrefix(line, "|--") {
				var row []string
				for _, c := range strings.Split(strings.Trim(line, "|"), "|") {
					row = append(row, plainly(strings.TrimSpace(c)))
				}
				table = append(table, row)
			}
			continue
		}
		flush()
		switch {
		case strings.HasPrefix(line, "    "):
			a.tell(line[2:])
		default:
			for _, l := range screen.Wrapped(plainly(line), helpWidth) {
				a.tell(l)
			}
		}
	}
	flush()
}

// topicTable writes a table whose last column goes on below itself.
func (a *App) topicTable(rows [][]string) {
	widths := make([]int, len(rows[0]))
	for _, r := range rows {
		for i, c := range r {
			widths[i] = max(widths[i], runewidth.StringWidth(c))
		}
	}
	for _, r := range rows {
		begin := "  "
		for i, c := range r[:len(r)-1] {
			begin += runewidth.FillRight(c, widths[i]+2)
		}
		a.hanging(begin, r[len(r)-1])
	}
}
