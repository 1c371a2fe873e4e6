package cli

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/core/value"
)

func plainNumber(n int64) string { return strconv.FormatInt(n, 10) }

// ask reads a secret: from the terminal without showing it, or one line from a
// pipe. A secret on the command line would be seen by everyone on the computer.
func (a *app) ask(what string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, what+": ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	line, err := bufio.NewReader(io.LimitReader(a.in, 4096)).ReadString('\n')
	if err == io.EOF && line != "" {
		err = nil
	}
	if err != nil {
		return "", problem.New(problem.Usage, "no "+what+" was given", "type it, or send it through a pipe")
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// askNew asks for a secret that is new: twice on a terminal, where nobody sees what
// is typed.
func (a *app) askNew(what string) (string, error) {
	first, err := a.ask(what)
	if err != nil {
		return "", err
	}
	if f, ok := a.in.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		return first, nil
	}
	again, err := a.ask(what + ", again")
	if err == nil && again != first {
		err = problem.New(problem.Usage, "the two are not the same", "try again")
	}
	return first, err
}

// sure asks whether something that cannot be taken back is meant; yes says it
// without asking.
func (a *app) sure(question string, yes bool) error {
	if yes {
		return nil
	}
	fmt.Fprint(a.err, question+" Type yes to do it: ")
	line, err := bufio.NewReader(io.LimitReader(a.in, 100)).ReadString('\n')
	if err != nil && err != io.EOF {
		return err
	}
	if strings.TrimSpace(line) != "yes" {
		return problem.New(problem.Usage, "nothing was done", "say yes, or give --yes")
	}
	return nil
}

func (a *app) vault() *cobra.Command {
	status := &cobra.Command{Use: "status", Short: "Whether the vault is open, and what opens it",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			return a.printVault(ctx, c)
		})}
	lock := &cobra.Command{Use: "lock", Short: "Lock the vault: no password can be used or shown until it is unlocked",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			if err := c.LockVault(ctx); err != nil {
				return err
			}
			return a.printVault(ctx, c)
		})}
	unlock := &cobra.Command{Use: "unlock", Short: "Unlock the vault; asks for the passphrase if one opens it",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			v, err := c.Vault(ctx)
			if err != nil {
				return err
			}
			passphrase := ""
			if v.Opener == "passphrase" {
				if passphrase, err = a.ask("passphrase"); err != nil {
					return err
				}
			}
			if err := c.UnlockVault(ctx, passphrase); err != nil {
				return err
			}
			return a.printVault(ctx, c)
		})}
	var withFile bool
	key := &cobra.Command{Use: "change-key",
		Short: "Give the vault a new key, opened by a passphrase or by a new key file",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			passphrase := ""
			if !withFile {
				var err error
				if passphrase, err = a.askNew("new passphrase"); err != nil {
					return err
				}
				if passphrase == "" {
					return problem.New(problem.Usage, "the passphrase is empty", "for a key file give --key-file")
				}
			}
			if err := c.ChangeKey(ctx, passphrase); err != nil {
				return err
			}
			return a.printVault(ctx, c)
		})}
	key.Flags().BoolVar(&withFile, "key-file", false, "open it by a new key file instead of a passphrase")
	anew := &cobra.Command{Use: "begin-anew",
		Short: "Give a vault that nothing opens any more a new key; what the lost one sealed stays sealed",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			v, err := c.BeginAnew(ctx)
			if err != nil {
				return err
			}
			a.say("The vault is open with a new key. %s stay sealed by the lost one; devices that only they open must be reset, or their logins learned.", value.Count(v.Sealed, "secret"))
			return nil
		})}
	var identity string
	learn := &cobra.Command{Use: "learn FILE", Short: "Store known logins of devices that are set already",
		Args: cobra.ExactArgs(1),
		Long: `Stores logins from a CSV file with the columns user, password, and tag or mac,
all or none. Each is tried where its device can be reached: one that is refused
refuses the file, and those that could not be tried are named. A file that was sealed
(redstart handover credentials) is opened here, with --identity or its passphrase.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			file, err := readFile(args[0])
			if err != nil {
				return err
			}
			if file, err = a.unsealed(file, identity); err != nil {
				return err
			}
			out, err := c.LearnCredentials(ctx, file)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, text := range out.Untried {
				of, why, _ := strings.Cut(text, ": ")
				rows = append(rows, []any{of, why})
			}
			if len(rows) > 0 || a.output != "table" {
				if err := a.list(out, []string{"Not tried", "Because"}, rows, ""); err != nil {
					return err
				}
			}
			a.say("%s stored, %d accepted by their devices just now. The file itself still holds them in plain text: delete it.", value.Count(out.Stored, "login"), out.Accepted)
			return nil
		})}
	learn.Flags().StringVar(&identity, "identity", "", "`file` with the key that opens a sealed file, as age-keygen writes it")
	return group("vault", "The stored passwords of devices", status, lock, unlock, key, anew, a.reveal(), a.knownLogins(),
		a.credentials(), learn, a.rotate(), a.policy())
}

// sealedBy begins files that are sealed (age-encryption.org/v1).
const sealedBy = "age-encryption.org/v1"

// unsealed opens a sealed file with a key of a file, or a passphrase that is asked for; any
// other file it gives as it is.
func (a *app) unsealed(file []byte, identity string) ([]byte, error) {
	if !bytes.HasPrefix(file, []byte(sealedBy)) {
		return file, nil
	}
	keys, err := a.identities(identity)
	if err != nil {
		return nil, err
	}
	open, err := age.Decrypt(bytes.NewReader(file), keys...)
	if err != nil {
		return nil, problem.New(problem.Usage, "the key or passphrase does not open the file, or it is damaged",
			"ask whoever sealed it for whom it is").Because(err)
	}
	content, err := io.ReadAll(open)
	if err != nil {
		return nil, problem.New(problem.Usage, "the file is damaged or cut off", "ask for it again").Because(err)
	}
	return content, nil
}

func (a *app) reveal() *cobra.Command {
	var setting, credential string
	c := &cobra.Command{Use: "reveal TAG",
		Short: "Show the login that opens an entry's device, or a secret setting; recorded in its history",
		Args:  cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			shown, err := c.Reveal(ctx, args[0], setting, credential)
			if err != nil {
				return err
			}
			state := shown.State
			if shown.ToldBy != "" {
				state += ", " + shown.ToldBy
			}
			return a.list(shown, []string{"User", "Password", "State"},
				[][]any{{dash(shown.User), shown.Password, dash(state)}},
				fmt.Sprintf("Shown on purpose; the history of %s says so.", args[0]))
		})}
	c.Flags().StringVar(&setting, "setting", "", "`key` of a secret setting")
	c.Flags().StringVar(&credential, "credential", "", "`number` of another login, as vault credentials lists them")
	c.MarkFlagsMutuallyExclusive("setting", "credential")
	return c
}

func (a *app) credentials() *cobra.Command {
	return &cobra.Command{Use: "credentials TAG",
		Short: "List the logins that are stored for an entry's device, without passwords", Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			list, err := c.Credentials(ctx, args[0])
			if err != nil {
				return err
			}
			var rows [][]any
			for _, x := range list {
				rows = append(rows, []any{x.ID, x.User, x.State, day(x.At.Time), dash(x.ToldBy), dash(x.Origin),
					day(x.MadeAt.Time)})
			}
			return a.list(list, []string{"Number", "User", "State", "Since", "Told by", "From", "Made"}, rows,
				"Show one with: redstart vault reveal "+args[0]+" [--credential NUMBER]")
		})}
}

// rotate gives devices new passwords.
func (a *app) rotate() *cobra.Command {
	var all, yes bool
	c := &cobra.Command{Use: "rotate [TAG...]",
		Short: "Give devices new passwords: stored first, set, proven, the old ones superseded",
		Args:  cobra.ArbitraryArgs,
		Long: `Starts a run over the given entries, or --all that are matched, that gives every
device a new password, whatever it has. Where a kind shares one password, a new
one is made for the whole kind. A run that is cut off goes on with: redstart
commission.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			if (len(tags) == 0) == !all {
				return &usageError{fmt.Errorf("give tags, or --all")}
			}
			in := api.RunOptions{Chosen: api.Chosen{Tags: tags, All: all}, Fresh: true}
			r, err := c.Rehearse(ctx, in)
			if err != nil {
				return err
			}
			if err := a.sure(fmt.Sprintf("%s get new passwords.", value.Count(len(r.Devices), "device")), yes); err != nil {
				return err
			}
			return a.commissionAll(ctx, c, in)
		})}
	c.Flags().BoolVar(&all, "all", false, "every matched entry that a run can set")
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return c
}

func (a *app) printVault(ctx context.Context, c *client.Client) error {
	v, err := c.Vault(ctx)
	if err != nil {
		return err
	}
	state := "open"
	if v.Locked {
		state = "locked"
	}
	if v.Lost != "" {
		a.say("%s", v.Lost)
	}
	if v.Sealed > 0 {
		a.say("%s stay sealed by a key that was lost.", value.Count(v.Sealed, "secret"))
	}
	opener := map[string]string{"file": "the key file vault.key in the data folder",
		"passphrase": "a passphrase"}[v.Opener]
	return a.list(v, []string{"Vault", "Opened by"}, [][]any{{state, opener}}, "")
}

func (a *app) policy() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List how logins are made",
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			s, err := c.Site(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, p := range s.Policies {
				length := "usual"
				if p.Length > 0 {
					length = strconv.Itoa(p.Length)
				}
				rows = append(rows, []any{policyFor(p.For), p.Mode, length, strings.TrimSpace(p.Users + " " + p.User),
					dash(p.Recovery)})
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("Nothing is said: one generated password per device, and the user kept.")
				return nil
			}
			return a.list(s.Policies, []string{"For", "Passwords", "Length", "User", "Recovery mail"}, rows, "")
		})}
	var in api.PolicyChange
	var p plan.Policy
	set := &cobra.Command{Use: "set [site|kind:KIND|profile:PROFILE]",
		Short: "Say how logins are made for the site, a kind or a profile", Args: cobra.ExactArgs(1),
		Long: `Says how logins are made; what is not given stays as it is. Passwords: each (one generated per device), kind (one
generated for all devices of a kind) or given (asked for, not shown).`,
		Example: "  redstart vault policy set kind:intercom --passwords kind --recovery duty@example.org",
	}
	set.RunE = a.with(func(ctx context.Context, c *client.Client, args []string) error {
		if in.For = args[0]; in.For == "site" {
			in.For = ""
		}
		for flag, give := range map[string]func(){
			"passwords": func() {
				in.Mode = &p.Mode
			}, "length": func() { in.Length = &p.Length }, "users": func() { in.Users = &p.Users },
			"user": func() { in.User = &p.User }, "recovery": func() { in.Recovery = &p.Recovery },
		} {
			if set.Flags().Changed(flag) {
				give()
			}
		}
		if in.Mode != nil && p.Mode == plan.Given {
			var err error
			if in.Password, err = a.askNew("password"); err != nil {
				return err
			}
		}
		if err := c.SetPolicy(ctx, in); err != nil {
			return err
		}
		s, err := c.Site(ctx)
		if err != nil {
			return err
		}
		for _, now := range s.Policies {
			if now.For == in.For {
				a.say("Logins: %s. Next: redstart plan check", now.Words())
			}
		}
		return nil
	})
	f := set.Flags()
	f.StringVar(&p.Mode, "passwords", plan.OneEach, "each, kind or given")
	f.IntVar(&p.Length, "length", 0, "length of generated passwords in characters; the usual if not given")
	f.StringVar(&p.Users, "users", plan.KeepUser, "keep, rename or add: what happens to the factory user")
	f.StringVar(&p.User, "user", "", "`name` of the renamed or added user")
	f.StringVar(&p.Recovery, "recovery", "", "mail `address` for lost passwords")
	remove := &cobra.Command{Use: "remove [site|kind:KIND|profile:PROFILE]", Short: "Take a policy away",
		Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			of := args[0]
			if of == "site" {
				of = ""
			}
			if err := c.RemovePolicy(ctx, of); err != nil {
				return err
			}
			a.say("Taken away.")
			return nil
		})}
	return group("policy", "How logins of devices are made", list, set, remove)
}

func policyFor(of string) string {
	if of == "" {
		return "site"
	}
	return of
}

func (a *app) user() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List who may sign in",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			users, err := c.Users(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, u := range users {
				rows = append(rows, []any{u.Name, u.Rights, rightsText[right.Right(u.Rights)]})
			}
			return a.list(users, []string{"User", "Right", ""}, rows, "")
		})}
	var most string
	add := &cobra.Command{Use: "add NAME", Short: "Make a user; asks for the password", Args: cobra.ExactArgs(1),
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			password, err := a.askNew("password for " + args[0])
			if err != nil {
				return err
			}
			if err := c.AddUser(ctx, api.Account{Name: args[0], Password: password,
				Rights: right.Right(most)}); err != nil {
				return err
			}
			a.say("%s %s.", args[0], rightsText[right.Right(most)])
			return nil
		})}
	add.Flags().StringVar(&most, "right", string(right.Look), "look, plan, commission or own")
	var newPassword bool
	var newRight string
	var keep []string
	set := &cobra.Command{Use: "set NAME", Short: "Change a user's right or password", Args: cobra.ExactArgs(1),
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			if newRight == "" {
				return &usageError{fmt.Errorf("say the right with --right: look, plan, commission or own")}
			}
			in := api.Account{Name: args[0], Rights: right.Right(newRight), Keep: keep}
			if len(keep) > 0 && !newPassword {
				return &usageError{fmt.Errorf("--keep-token belongs to --password: without a new password all tokens are kept")}
			}
			if newPassword {
				var err error
				if in.Password, err = a.askNew("new password for " + args[0]); err != nil {
					return err
				}
			}
			if err := c.SetUser(ctx, in); err != nil {
				return err
			}
			a.say("%s %s.", args[0], rightsText[in.Rights])
			return nil
		})}
	set.Flags().StringVar(&newRight, "right", "", "look, plan, commission or own")
	set.Flags().BoolVar(&newPassword, "password", false, "ask for a new password; the user's tokens are revoked with the old one")
	set.Flags().StringArrayVar(&keep, "keep-token", nil, "a token of this `name` outlives the old password; may be given again")
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a user with all tokens", Args: cobra.ExactArgs(1),
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RemoveUser(ctx, args[0]); err != nil {
				return err
			}
			a.say("%s may not sign in any more.", args[0])
			return nil
		})}
	return group("user", "Who may use the service", list, add, set, remove, a.token())
}

var rightsText = map[right.Right]string{
	right.Look: "may only look", right.Plan: "may change plans",
	right.Commission: "may change plans and work on devices", right.Own: "may do everything",
}

func (a *app) token() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List API tokens",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			tokens, err := c.Tokens(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, t := range tokens {
				rows = append(rows, []any{t.ID, t.User, t.Name, rightsText[right.Right(t.Rights)], day(t.MadeAt.Time),
					day(t.UsedAt.Time), day(t.ExpiresAt.Time)})
			}
			return a.list(tokens, []string{"Number", "User", "Token", "It", "Made", "Last used", "Expires"}, rows, "")
		})}
	var of api.ForToken
	var most string
	add := &cobra.Command{Use: "add NAME", Short: "Make an API token; it is shown once", Args: cobra.ExactArgs(1),
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			of.Name, of.Rights = args[0], right.Right(most)
			t, err := c.AddToken(ctx, of)
			if err != nil {
				return err
			}
			return a.list(t, []string{"Token", ""}, [][]any{{t.Name, t.Token}},
				"It "+rightsText[t.Rights]+", until "+t.ExpiresAt.Format(time.DateOnly)+". Shown only now. Use it with REDSTART_URL, REDSTART_TOKEN and, for a self-made certificate, REDSTART_PIN.")
		})}
	add.Flags().StringVar(&most, "right", string(right.Look), "look, plan, commission or own; at most your own")
	add.Flags().IntVar(&of.Days, "days", api.UsualDays, fmt.Sprintf("for how many `days` it is good, at most %d", api.MostDays))
	revoke := &cobra.Command{Use: "revoke NUMBER", Short: "Revoke an API token", Args: cobra.ExactArgs(1),
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RevokeToken(ctx, args[0]); err != nil {
				return err
			}
			a.say("Revoked.")
			return nil
		})}
	return group("token", "Tokens with which programs and other computers use the service", list, add, revoke)
}
