package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"ironweir/client"
)

// account is how a service is reached from this machine.
type account struct {
	Token     string `json:"token"`
	Workspace string `json:"workspace"`
}

// accounts are the services that somebody has logged in to, by address; the last
// one is used where none is named.
type accounts struct {
	Last    string             `json:"last"`
	Servers map[string]account `json:"servers"`
}

func accountsFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "ironweir", "servers.json"), nil
}

func readAccounts() (*accounts, error) {
	a := &accounts{Servers: map[string]account{}}
	file, err := accountsFile()
	if err != nil {
		return a, nil
	}
	text, err := os.ReadFile(file)
	if isMissing(err) {
		return a, nil
	}
	if err != nil {
		return nil, plainError(err)
	}
	if err := json.Unmarshal(text, a); err != nil {
		return nil, fmt.Errorf("%s cannot be read (%w); remove it and log in again", file, err)
	}
	return a, nil
}

// keep writes the accounts where nobody else can read them.
func (a *accounts) keep() error {
	file, err := accountsFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return plainError(err)
	}
	text, err := json.MarshalIndent(a, "", "  ")
	if err != nil {
		return err
	}
	return plainError(os.WriteFile(file, append(text, '\n'), 0o600))
}

// connect makes a client of the service at an address, or of the last one that
// somebody logged in to, with the token that is kept for it.
func connect(address string) (*client.Client, error) {
	kept, err := readAccounts()
	if err != nil {
		return nil, err
	}
	if address == "" {
		address = kept.Last
	}
	if address == "" {
		return nil, fmt.Errorf(
			"no service is named: give -server ADDRESS, set IRONWEIR_SERVER, or `ironweir login` first",
		)
	}
	if u, err := url.Parse(address); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("-server %s: an address is like http://127.0.0.1:8420", address)
	}
	address = strings.TrimRight(address, "/")
	a := kept.Servers[address]
	if token := os.Getenv("IRONWEIR_TOKEN"); token != "" {
		a.Token = token
	}
	if w := os.Getenv("IRONWEIR_WORKSPACE"); w != "" {
		a.Workspace = w
	}
	if a.Workspace == "" {
		a.Workspace = "main"
	}
	return client.New(address, a.Token, a.Workspace), nil
}

// serviceFlags are the flags of the commands that work with a service.
type serviceFlags struct{ server, workspace, format *string }

func (c *call) serviceFlags() *serviceFlags {
	return &serviceFlags{
		server: c.String(
			"server",
			os.Getenv("IRONWEIR_SERVER"),
			"the service at `ADDRESS`; by default the last one that was logged in to",
		),
		workspace: c.String("workspace", "", "in the workspace `NAME`; by default the one of the login"),
		format:    c.String("format", "text", "`FORMAT`: text, json"),
	}
}

// open makes a client as the flags say, which have been parsed.
func (f *serviceFlags) open(c *call) (*client.Client, error) {
	if err := c.oneOf("format", *f.format, "text|json"); err != nil {
		return nil, err
	}
	api, err := connect(*f.server)
	if err == nil && *f.workspace != "" {
		api.Workspace = *f.workspace
	}
	return api, err
}

var loginCommand = &command{
	name:  "login",
	args:  "",
	short: "Make a token at a service, and keep it for the commands that follow",
	example: `ironweir login -server http://127.0.0.1:8420 -link http://127.0.0.1:8420/sign-in#…
ironweir login -server http://127.0.0.1:8420 -user skerry
ironweir login -server http://127.0.0.1:8420 -token-file weir.token -workspace night-crossings`,
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		link := c.String("link", "", "sign in with a one-time `LINK`, or the part of it after #")
		user := c.String("user", "", "sign in as `NAME`; the password is asked for, or read from standard input")
		tokenFile := c.String("token-file", "", "keep the token in `FILE`, which was made in the settings")
		if err := c.parse(0, 0); err != nil {
			return 0, err
		}
		kept, err := readAccounts()
		if err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		switch {
		case *tokenFile != "":
			text, err := c.read(*tokenFile)
			if err != nil {
				return 0, err
			}
			api.Token = strings.TrimSpace(string(text))
		case *link != "":
			_, secret, found := strings.Cut(*link, "#")
			if !found {
				secret = *link
			}
			if _, err := api.Login(c, secret, "", "", tokenName()); err != nil {
				return 0, reached(err)
			}
		case *user != "":
			password, err := c.password(*user)
			if err != nil {
				return 0, err
			}
			if _, err := api.Login(c, "", *user, password, tokenName()); err != nil {
				return 0, reached(err)
			}
		default:
			return 0, fmt.Errorf("say how to sign in: -link, -user or -token-file (`ironweir login -h` has examples)")
		}
		who, err := api.WhoAmI(c)
		if err != nil {
			return 0, reached(err)
		}
		spaces, err := api.Workspaces(c)
		if err != nil {
			return 0, reached(err)
		}
		role, names := "", []string{}
		for _, w := range spaces {
			names = append(names, w.Name)
			if w.Name == api.Workspace {
				role = w.Role
			}
		}
		if role == "" && *f.workspace != "" {
			return 0, fmt.Errorf(
				"there is no workspace %s for %s; there is: %s",
				*f.workspace,
				who.Name,
				strings.Join(names, ", "),
			)
		}
		if role == "" && len(spaces) > 0 {
			api.Workspace, role = spaces[0].Name, spaces[0].Role
		}
		kept.Last, kept.Servers[api.URL] = api.URL, account{api.Token, api.Workspace}
		if err := kept.keep(); err != nil {
			return 0, err
		}
		if role == "" {
			fmt.Fprintf(c.out, "Logged in to %s as %s, who is a member of no workspace yet.\n", api.URL, who.Name)
			return exitFine, nil
		}
		fmt.Fprintf(c.out, "Logged in to %s as %s: %s of workspace %s.\n", api.URL, who.Name, role, api.Workspace)
		return exitFine, nil
	},
}

// tokenName says of a token where it is kept.
func tokenName() string {
	host, err := os.Hostname()
	if err != nil {
		host = "somewhere"
	}
	return "ironweir login on " + host
}

// password asks for a password on a terminal, or reads it from standard input.
func (c *call) password(name string) (string, error) {
	if f, ok := c.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(c.err, "Password of %s: ", name)
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(c.err)
		return string(text), err
	}
	line, err := bufio.NewReader(c.in).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", errors.Join(errors.New("no password was given on standard input"), err)
	}
	return line, nil
}

var userCommand = &command{
	name:  "user",
	args:  "[add|link|role|remove NAME]",
	short: "List the users of a service, add one, give a role, create a sign-in link",
	example: `ironweir user
ironweir user add skerry -role editor
ironweir user role skerry -role admin -workspace night-crossings
ironweir user link skerry
ironweir user remove skerry`,
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		role := c.String("role", "", "`ROLE` in the workspace: viewer, editor, admin, none")
		admin := c.Bool("admin", false, "administers the service")
		if err := c.parse(0, 2); err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		if *role != "" {
			if err := c.oneOf("role", *role, "viewer|editor|admin|none"); err != nil {
				return 0, err
			}
		}
		if c.NArg() == 0 {
			people, err := api.Users(c)
			if err != nil {
				return 0, reached(err)
			}
			if *f.format == "json" {
				return exitFine, c.printJSON(people)
			}
			for _, p := range people {
				fmt.Fprintf(
					c.out,
					"%-24s %-24s %s\n",
					p.Name,
					map[bool]string{true: "administers the service"}[p.Admin],
					map[bool]string{true: "signs in with a password", false: "signs in with links"}[p.HasPassword],
				)
			}
			return exitFine, nil
		}
		if c.NArg() != 2 {
			return 0, fmt.Errorf("`user %s` needs a name", c.Arg(0))
		}
		name := c.Arg(1)
		switch c.Arg(0) {
		case "add":
			if err := api.CreateUser(c, name, *admin); err != nil {
				return 0, reached(err)
			}
			if *role != "" && *role != "none" {
				if err := api.SetMember(c, name, *role); err != nil {
					return 0, reached(err)
				}
			}
			fallthrough
		case "link":
			link, err := api.SignInLink(c, name)
			if err != nil {
				return 0, reached(err)
			}
			fmt.Fprintf(c.out, "%s signs in, once and within a day, with:\n%s\n", name, link)
		case "role":
			if *role == "" {
				return 0, fmt.Errorf("say which with -role: viewer, editor, admin, none")
			}
			given := *role
			if given == "none" {
				given = ""
			}
			if err := api.SetMember(c, name, given); err != nil {
				return 0, reached(err)
			}
			fmt.Fprintf(c.out, "%s: %s in workspace %s\n", name, *role, api.Workspace)
		case "remove":
			if err := api.DeleteUser(c, name); err != nil {
				return 0, reached(err)
			}
			fmt.Fprintf(c.out, "%s was removed; what they made stays.\n", name)
		default:
			return 0, fmt.Errorf("`user %s`: it is one of add, link, role, remove", c.Arg(0))
		}
		return exitFine, nil
	},
}

var tokenCommand = &command{name: "token", args: "[revoke ID]", short: "Show the token that is used here, revoke it",
	example: `ironweir token
ironweir token revoke 3`,
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		if err := c.parse(0, 2); err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		switch {
		case c.NArg() == 0:
			tokens, err := api.Tokens(c)
			if err != nil {
				return 0, reached(err)
			}
			if *f.format == "json" {
				return exitFine, c.printJSON(tokens)
			}
			for _, t := range tokens {
				where := "all workspaces"
				if t.Workspace != nil {
					where = *t.Workspace
				}
				fmt.Fprintf(
					c.out,
					"%4d  %-32s %-8s %-16s until %s\n",
					t.ID,
					t.Name,
					t.Role,
					where,
					t.ExpiresAt.Format("2006-01-02"),
				)
			}
		case c.NArg() == 2 && c.Arg(0) == "revoke":
			var id int64
			if _, err := fmt.Sscan(c.Arg(1), &id); err != nil {
				return 0, fmt.Errorf("%q is not the number of a token; `ironweir token` lists them", c.Arg(1))
			}
			if err := api.RevokeToken(c, id); err != nil {
				return 0, reached(err)
			}
			fmt.Fprintf(c.out, "Token %d lets nobody in any more.\n", id)
		default:
			return 0, fmt.Errorf(
				"`token %s`: write `token` or `token revoke ID`; tokens are made in the console's settings, or by `ironweir login`",
				strings.Join(c.Args(), " "),
			)
		}
		return exitFine, nil
	}}
