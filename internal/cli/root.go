// Package cli is the terminal's way in: the client of the service, the same
// questions on a world file alone, and the commands that run the service.
//
// Exit status: 0 yes or done, 1 failed, 2 wrong use, 3 the answer is no,
// 130 interrupted.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/store/migrations"
	"wexillum.example/internal/worldfile"
)

// The exit statuses.
const (
	statusDone = iota
	statusFailed
	statusWrongUse
	statusNo

	// statusInterrupted is what shells expect of a command that Ctrl-C ended: 128 and the number of the signal.
	statusInterrupted = 130
)

// exit is an error that only sets the status; what there was to say is said.
type exit int

func (e exit) Error() string { return fmt.Sprintf("status %d", int(e)) }

// usage is wrong use: of a command, or a question that makes no sense.
type usage struct{ error }

// app is what the commands share.
type app struct {
	in        io.Reader
	out, err  io.Writer
	program   *Program // nil in the client alone
	server    string
	profile   string // by which name the service and the sign-in are kept
	output    string
	world     string
	with      []string
	despite   string
	noColor   bool
	foundTold bool   // it was said of which reading the answers are
	found     string // most or least: what systems hold is asked instead of what is meant
	draft     string // the draft that changes of policy go to, and that answers
	yes       bool
	quiet     bool     // sentences and heads of lists are left out
	said      []string // what was said where the output is for a program
	// policyAlone says that the command answers from policy without whom it names.
	policyAlone bool
}

// Main runs the command line and returns its exit status. Without a program of the service, what that does is left to
// the one beside this.
func Main(args []string, in io.Reader, out, errOut io.Writer, program *Program) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errOut, program: program}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		err = a.answered()
	}
	if err != nil && ctx.Err() != nil { // whoever pressed Ctrl-C knows
		return statusInterrupted
	}
	var status exit
	var wrong *engine.WrongUse
	var use usage
	var api *problemError
	switch {
	case err == nil:
		return statusDone
	case errors.As(err, &status):
		return int(status)
	case errors.As(err, &use), errors.As(err, &wrong), errors.As(err, &api) && api.wrongUse():
		fmt.Fprintln(errOut, "wexillum: "+err.Error())
		return statusWrongUse
	}
	fmt.Fprintln(errOut, "wexillum: "+err.Error())
	var file worldfile.Errors
	if errors.As(err, &file) {
		fmt.Fprintln(errOut, "nothing was changed")
	}
	return statusFailed
}

// revision is the commit that the program was built from; the build sets it.
var revision = ""

// Revision is the commit that the program was built from; "of no revision" where the build does not say.
func Revision() string { return cmp.Or(revision, "of no revision") }

// version says which revision of the program it is, with which format of the database.
func version() string {
	return fmt.Sprintf("%s, %s, schema %s", Revision(), runtime.Version(), migrations.Newest())
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "wexillum",
		Short:         "See what each outsider can do, what blocks them, and who can change it",
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       version(),
		Args:          noSuchCommand,
		RunE:          func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	f := root.PersistentFlags()
	f.StringVar(&a.server, "server", "", "address of the service (WEXILLUM_SERVER, else the one of wexillum login)")
	f.StringVar(&a.profile, "profile", "", "the service of this name, of several (WEXILLUM_PROFILE); wexillum profiles lists them")
	f.StringVarP(&a.output, "output", "o", "table", "table, json, yaml or csv")
	f.StringVar(&a.world, "world", "", "answer from a world file alone, without any service")
	f.StringArrayVar(&a.with, "with", nil,
		"with --world, suppose that this stood in it, too: a part as rules: {chat.calls: {default: off}}, or a file")
	f.StringVar(&a.draft, "draft", "", "change policy in this draft, and answer as it would make it")
	f.StringVar(&a.found, "found", "", "ask what the systems hold instead of what is meant: most, or least where they can be read in two ways")
	f.Lookup("found").NoOptDefVal = "most"
	f.StringVar(&a.despite, "despite", "", "where a change of policy breaks what is expected: why it is published all the same")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "leave out sentences that say what was done, and the heads of lists")
	f.BoolVarP(&a.yes, "yes", "y", false, "publish without asking")
	f.BoolVar(&a.noColor, "no-color", false, "no colour on a terminal")
	root.PersistentPreRunE = func(c *cobra.Command, _ []string) error {
		switch a.output {
		case "table", "json", "yaml", "csv":
		default:
			return usage{fmt.Errorf("--output %q: write table, json, yaml or csv", a.output)}
		}
		if a.output == "json" || a.output == "yaml" {
			a.out = &counting{Writer: a.out}
		}
		a.policyAlone = c.Parent() != nil && c.Parent().Name() == "rules"
		return a.mayUseFile(c)
	}
	_ = root.RegisterFlagCompletionFunc(
		"output",
		cobra.FixedCompletions([]string{"table", "json", "yaml", "csv"}, cobra.ShellCompDirectiveNoFileComp),
	)
	_ = root.RegisterFlagCompletionFunc("draft", func(c *cobra.Command, _ []string, text string) ([]string, cobra.ShellCompDirective) {
		return a.completeDraft(c, nil, text)
	})
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		var bad *pflag.InvalidValueError
		if errors.As(err, &bad) { // what the parser says of the value is meant for programmers
			kind := map[string]string{"int": "a whole number", "bool": "true or false",
				"duration": "a length of time, as 90s or 2h"}[bad.GetFlag().Value.Type()]
			if kind != "" {
				return usage{fmt.Errorf("--%s %q: write %s; see %s --help", bad.GetFlag().Name, bad.GetValue(), kind, c.CommandPath())}
			}
		}
		if words := c.Flags().Args(); c.HasSubCommands() && len(words) > 0 { // it is the command that there is not, and not its flag
			return noSuchCommand(c, words)
		}
		return usage{fmt.Errorf("%w; see %s --help", err, c.CommandPath())}
	})
	root.AddGroup(&cobra.Group{ID: "ask", Title: "Ask"}, &cobra.Group{ID: "keep", Title: "Keep"}, &cobra.Group{ID: "run", Title: "Run"})
	add := func(group string, cs ...*cobra.Command) {
		for _, c := range cs {
			c.GroupID = group
			a.strictArgs(c)
			root.AddCommand(c)
		}
	}
	add("ask", a.ask(), a.reach(), a.audience(), a.could(), a.spare(), a.diff(), a.check(), a.due(), a.expect(), a.finding(), a.journal(),
		a.history(), a.evidence())
	add(
		"keep",
		a.guest(),
		a.drafts(),
		a.revision(),
		a.bundle(),
		a.request(),
		a.review(),
		a.absence(),
		a.rules(),
		a.exception(),
		a.partner(),
		a.feed(),
		a.domain(),
		a.statement(),
		a.space(),
		a.item(),
		a.meeting(),
		a.person(),
		a.group(),
		a.grant(),
		a.contact(),
		a.link(),
		a.forwarder(),
		a.load(),
		a.dump(),
		a.differs(),
		a.system(),
		a.settings(),
		a.posture(),
		a.account(),
		a.webhook(),
		a.token(),
		a.dates(),
		a.mend(),
	)
	add("run", a.begin(), a.login(), a.logout(), a.profiles())
	if program := a.program; program != nil {
		add("run", append(program.Commands(&Terminal{a}), a.man())...)
		return root
	}
	for _, x := range besides {
		if x.name != "first" && x.name != "recover" { // of accounts
			add("run", a.beside(x.name, x.short))
		}
	}
	return root
}

// fromFile lists the commands that answer from a world file alone; every other one refuses
// --world rather than ask, or change, a service behind the file's back.
var fromFile = []string{
	"ask",
	"reach",
	"audience",
	"could",
	"spare",
	"diff",
	"check",
	"due",
	"expect run",
	"finding list",
	"finding kinds",
	"rules list",
	"rules find",
	"rules show",
	"rules choices",
	"draft impact",
}

// mayUseFile refuses --world where a command does not answer from a file, and --draft beside
// it: drafts are the service's.
func (a *app) mayUseFile(c *cobra.Command) error {
	if a.world == "" {
		if len(a.with) > 0 {
			return usage{errors.New("--with supposes something of a file; give --world FILE, too, or ask the service with --draft")}
		}
		return nil
	}
	name := strings.TrimPrefix(c.CommandPath(), c.Root().Name()+" ")
	if name == "differs" { // it compares a file with a service
		if len(a.with) > 0 {
			return usage{errors.New("--with supposes, and differs compares what stands in the file; leave --with out")}
		}
		return nil
	}
	if !slices.Contains(fromFile, name) {
		return usage{
			fmt.Errorf(
				"%s does not answer from a file; leave --world out and name the service with --server. From a file answer: %s",
				name,
				strings.Join(fromFile, ", "),
			),
		}
	}
	if a.draft != "" {
		return usage{errors.New("--draft is of the service, --world of a file; give one of them")}
	}
	return nil
}

// argumentsOf says which arguments a command takes, where there are too few or
// too many; any other fault as it is.
func argumentsOf(c *cobra.Command, args []string, err error) error {
	_, wanted, _ := strings.Cut(strings.TrimSuffix(c.Use, " [flags]"), " ")
	counted := map[int]string{0: "none was given", 1: "one was given"}
	given, ok := counted[len(args)]
	if !ok {
		given = fmt.Sprintf("%d were given", len(args))
	}
	switch text := err.Error(); {
	case wanted == "" && len(args) > 0:
		return fmt.Errorf("%s takes no arguments; take %q out", c.CommandPath(), args[0])
	case strings.HasPrefix(text, "accepts "), strings.HasPrefix(text, "requires "):
		return fmt.Errorf("%s takes %s; %s", c.CommandPath(), wanted, given)
	}
	return err
}

// strictArgs turns a wrong number of arguments into wrong use, and an unknown
// word behind a command group too.
func (a *app) strictArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if err := a.mayUseFile(c); err != nil {
				return err
			}
			if err := check(c, args); err != nil {
				return usage{fmt.Errorf("%w\nusage: %s", argumentsOf(c, args, err), c.UseLine())}
			}
			return nil
		}
	} else if c.HasSubCommands() {
		c.Args = func(c *cobra.Command, args []string) error {
			if err := a.mayUseFile(c); err != nil {
				return err
			}
			return noSuchCommand(c, args)
		}
		c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
	}
	for _, s := range c.Commands() {
		a.strictArgs(s)
	}
}

// noSuchCommand refuses a word that is no command of a group, with those that are like it.
func noSuchCommand(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	c.SuggestionsMinimumDistance = 2
	says := fmt.Sprintf("%q is no command of %s; ", args[0], c.CommandPath())
	if near := c.SuggestionsFor(args[0]); len(near) > 0 {
		says += fmt.Sprintf("did you mean %s? ", strings.Join(near, " or "))
	}
	return usage{fmt.Errorf("%ssee %s --help", says, c.CommandPath())}
}

// colour marks text on a terminal; meaning never rests on it.
func (a *app) colour(code, text string) string {
	f, ok := a.out.(*os.File)
	if a.noColor || !ok || os.Getenv("NO_COLOR") != "" || !term.IsTerminal(int(f.Fd())) {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

// width returns the columns of the terminal, 0 where there is none.
func (a *app) width() int {
	if f, ok := a.out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil {
			return w
		}
	}
	return 0
}

// say tells what was done, to people.
func (a *app) say(format string, args ...any) {
	switch {
	case a.output == "json" || a.output == "yaml":
		a.said = append(a.said, fmt.Sprintf(format, args...))
	case a.output == "table" && !a.quiet:
		fmt.Fprintf(a.out, format+"\n", args...)
	}
}

// counting knows whether anything was written.
type counting struct {
	io.Writer
	any bool
}

func (c *counting) Write(b []byte) (int, error) {
	c.any = c.any || len(b) > 0
	return c.Writer.Write(b)
}

// answered sees to it that a program that asked for JSON or YAML gets some: what was said, where there is no more.
func (a *app) answered() error {
	if out, ok := a.out.(*counting); !ok || out.any || len(a.said) == 0 {
		return nil
	}
	return a.records(map[string]any{"said": a.said}, nil, nil)
}

func pick(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func splitPair(s string) (k, v string, ok bool) { return strings.Cut(s, "=") }
