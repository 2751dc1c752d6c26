package cli

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"oakenchest/core/fault"
)

// former are words that have another name now.
var former = map[string]string{"switch": "go", "--graph": "--drawn", "--held": "--unsent"}

// hintOf says what to do next, what may have been meant first.
func hintOf(f *fault.Error) string {
	if len(f.Near) == 0 {
		return f.Hint
	}
	return strings.TrimSpace("Did you mean " + strings.Join(f.Near, " or ") + "? " + f.Hint)
}

// usage makes an error about the call itself.
func usage(cmd *cobra.Command, format string, args ...any) *fault.Error {
	return fault.New(fault.Usage, "See oaken help "+strings.TrimPrefix(cmd.CommandPath(), "oaken ")+".", format, args...)
}

// unknownCommand says that there is no command of a name, below another one.
func unknownCommand(cmd *cobra.Command, name string) error {
	path := cmd.CommandPath()
	if now := former[name]; now != "" && !cmd.HasParent() {
		return fault.New(fault.Usage, "Run "+path+" "+now+".", "There is no command %q: it is called %s.", name, now)
	}
	var names []string
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	if !cmd.HasParent() {
		for old := range former {
			if !strings.HasPrefix(old, "-") {
				names = append(names, old)
			}
		}
	}
	near := fault.Closest(name, names)
	for i, n := range near {
		if now := former[n]; now != "" {
			n = now
		}
		near[i] = path + " " + n
	}
	f := fault.New(fault.Usage, strings.TrimSpace("oaken help "+strings.TrimPrefix(strings.TrimPrefix(path, "oaken"),
		" "))+" lists the commands.", "There is no command %q.", name)
	f.Near = near
	return f
}

// wrongFlag says what is wrong with an option.
func wrongFlag(cmd *cobra.Command, err error) error {
	var missing *pflag.NotExistError
	var valueless *pflag.ValueRequiredError
	var value *pflag.InvalidValueError
	switch {
	case errors.As(err, &missing) && missing.GetSpecifiedShortnames() != "":
		return usage(cmd, "There is no option -%s.", missing.GetSpecifiedShortnames())
	case errors.As(err, &missing):
		name := "--" + missing.GetSpecifiedName()
		if now := former[name]; now != "" && cmd.Flag(now[2:]) != nil {
			return usage(cmd, "There is no option %s: it is called %s.", name, now)
		}
		f := usage(cmd, "There is no option %s.", name).Among(name[2:], optionsOf(cmd))
		for i := range f.Near {
			f.Near[i] = "--" + f.Near[i]
		}
		return f
	case errors.As(err, &valueless):
		name, _ := pflag.UnquoteUsage(valueless.GetFlag())
		return usage(cmd, "--%s needs a value behind it: --%s %s.", valueless.GetFlag().Name, valueless.GetFlag().Name, name)
	case errors.As(err, &value):
		return usage(cmd, "--%s takes %s, not %q.", value.GetFlag().Name, wanted(value.GetFlag().Value.Type()), value.GetValue())
	}
	return usage(cmd, "That call can't be read: it reads %s.", line(cmd))
}

// wanted says what the value of an option has to be.
func wanted(kind string) string {
	switch kind {
	case "bool":
		return "true or false"
	case "duration":
		return "a time such as 30m or 2h"
	case "int", "int64":
		return "a number"
	}
	return "another value"
}

func optionsOf(cmd *cobra.Command) (out []string) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			out = append(out, f.Name)
		}
	})
	return out
}

// line is how a call of a command reads.
func line(cmd *cobra.Command) string { return strings.TrimSuffix(cmd.UseLine(), " [flags]") }

// wrongArguments says that a call has too few words, or too many, or an unknown one.
func wrongArguments(cmd *cobra.Command, args []string) error {
	if cmd.HasSubCommands() && len(args) > 0 {
		return unknownCommand(cmd, args[0])
	}
	said := "nothing behind it"
	if len(args) > 0 {
		said = fmt.Sprintf("%d words behind it", len(args))
	}
	if len(args) == 1 {
		said = "one word behind it"
	}
	return usage(cmd, "That call has %s: it reads %s.", said, line(cmd))
}

// excluded finds the options in the words of the package that parses calls, for ones that exclude each other.
var excluded = regexp.MustCompile(`group \[[^\]]*\].*\[([^\]]*)\] were all set`)

// wrongTogether says what is wrong with the options of a call taken together.
func wrongTogether(err error) error {
	if m := excluded.FindStringSubmatch(err.Error()); m != nil {
		names := strings.Fields(m[1])
		slices.Sort(names)
		for i := range names {
			names[i] = "--" + names[i]
		}
		return fault.New(fault.Usage, "Leave out all but one.", "%s exclude each other.", strings.Join(names, " and "))
	}
	return fault.New(fault.Usage, "See oaken help.", "That call can't be read.")
}
