package command

import (
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
)

// completionCommand is a function, since it completes all other commands.
func completionCommand() *command {
	return &command{
		name:     "completion",
		synopsis: "bash|zsh|fish",
		short:    "prints a script that completes words in a shell",
		long: `Prints a script for a shell. With it, the shell completes commands, options,
declared names, sealed versions, languages and kinds of output.`,
		examples: [2]string{"source <(faithful completion bash)",
			"faithful completion fish > ~/.config/fish/completions/faithful.fish"},
		prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
			words := flags.Bool("words", false, "print the words that can come after the arguments; the scripts use it")
			return func(w *World, args []string) (int, error) {
				if *words {
					p := report.New(w.Out, report.Plain)
					for _, word := range completions(w, args) {
						p.Line("%s", word)
					}
					return fine, nil
				}
				if len(args) != 1 || completionScripts[args[0]] == "" {
					return trouble, usage("completion needs a shell: bash, zsh or fish")
				}
				io.WriteString(w.Out, completionScripts[args[0]]) // a broken pipe has no one to tell
				return fine, nil
			}
		},
	}
}

// completions lists the words that can stand in place of the last of words,
// which may be empty. words begin with the command.
func completions(w *World, words []string) []string {
	if len(words) == 0 {
		words = []string{""}
	}
	last := words[len(words)-1]
	var list []string
	if len(words) == 1 {
		for _, c := range all() {
			list = append(list, c.name)
		}
	} else if i := slices.IndexFunc(all(), func(c *command) bool { return c.name == words[0] }); i >= 0 {
		list = all()[i].completions(w, words[len(words)-2], last)
	}
	list = slices.DeleteFunc(list, func(s string) bool { return !strings.HasPrefix(s, last) })
	slices.Sort(list)
	return slices.Compact(list)
}

func (c *command) completions(w *World, before, last string) []string {
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	c.prepare(flags)
	if values := optionValues(w, flags.Lookup(strings.TrimLeft(before, "-"))); strings.HasPrefix(before, "-") &&
		values != nil {
		return values
	}
	var list []string
	if strings.HasPrefix(last, "-") {
		flags.VisitAll(func(f *flag.Flag) {
			dashes := "--"
			if len(f.Name) == 1 {
				dashes = "-"
			}
			list = append(list, dashes+f.Name)
		})
		return list
	}
	switch c.name {
	case "check", "compare":
		return references(w)
	case "show":
		return declaredNames(w)
	case "sample":
		return declaredNames(w, aMessage, anError, aCall)
	case "to-cbor", "from-cbor":
		return declaredNames(w, aMessage, anError)
	case "call":
		return append(declaredNames(w, aCall), "http://")
	case "completion":
		return []string{"bash", "fish", "zsh"}
	case "help":
		for _, other := range all() {
			list = append(list, other.name)
		}
	}
	return list
}

// optionValues lists what can follow an option; nil where that is anything or
// nothing.
func optionValues(w *World, option *flag.Flag) []string {
	if option == nil {
		return nil
	}
	switch option.Name {
	case "as": // its text lists them
		_, kinds, _ := strings.Cut(option.Usage, ": ")
		return strings.Split(strings.ReplaceAll(kinds, " or ", ", "), ", ")
	case "why":
		return compare.Kinds()
	case "of":
		return references(w)
	case "only":
		var names []string
		for _, l := range languages {
			names = append(names, l.Name())
		}
		return names
	}
	return nil
}

func references(w *World) []string {
	list := []string{"draft", "latest"}
	if p, err := openProject(w.Dir); err == nil {
		if ledger, err := p.Ledger(); err == nil {
			list = append(list, ledger.Names()...)
		}
	}
	return list
}

// declaredNames lists full names of things of some kinds, or of all, and, where
// they are clear, the short ones; of calls those with their service.
func declaredNames(w *World, kinds ...thingKind) []string {
	defs, _, err := project.Load(w.Dir, "draft")
	if err != nil {
		return nil
	}
	short := func(full string) string { return full[strings.LastIndexByte(full, '.')+1:] }
	everything := defs.Everything()
	if len(kinds) > 0 {
		everything = slices.DeleteFunc(everything, func(n schema.Element) bool {
			return !slices.Contains(kinds, thingKind(n.Noun()))
		})
	}
	count := map[string]int{}
	for _, n := range everything {
		count[short(n.FullName())]++
	}
	var list []string
	for _, n := range everything {
		list = append(list, n.FullName())
		if c, isCall := n.(*schema.Call); isCall {
			list = append(list, c.Service.Name+"."+c.Name)
			continue
		}
		if count[short(n.FullName())] == 1 {
			list = append(list, short(n.FullName()))
		}
	}
	return list
}

var completionScripts = map[string]string{
	"bash": fmt.Sprintf(`_faithful() {
	local IFS=$'\n'
	COMPREPLY=($(%s "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _faithful faithful
`, askWords),
	"zsh": fmt.Sprintf(`#compdef faithful
_faithful() {
	local -a found
	found=("${(@f)$(%s "${(@)words[2,CURRENT]}" 2>/dev/null)}")
	found=(${found:#})
	if (( $#found )); then
		compadd -a found
	else
		_files
	fi
}
compdef _faithful faithful
`, askWords),
	"fish": fmt.Sprintf(`function __faithful_words
	set -l words (commandline -opc) (commandline -ct)
	%s $words[2..-1] 2>/dev/null
end
complete -c faithful -a '(__faithful_words)'
`, askWords),
}

const askWords = "command faithful completion --words --"
