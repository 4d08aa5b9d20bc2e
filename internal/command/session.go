package command

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// session is a sign-in that is kept on this device.
type session struct {
	URL       string    `json:"url"`
	Token     string    `json:"token"`
	Refresh   string    `json:"refresh,omitempty"`
	Name      string    `json:"name"`
	ExpiresAt time.Time `json:"expiresAt"`
}

// sessionPath is below the XDG state folder.
func (a *app) sessionPath() (string, error) {
	if state, set := a.environment("XDG_STATE_HOME"); set && filepath.IsAbs(state) {
		return filepath.Join(state, "adytum", "session.json"), nil
	}
	home, set := a.environment("HOME")
	if !set || home == "" {
		return "", errors.New("neither XDG_STATE_HOME nor HOME is set, so there is no place for a sign-in; set one")
	}
	return filepath.Join(home, ".local", "state", "adytum", "session.json"), nil
}

func (a *app) readSession() (*session, error) {
	path, err := a.sessionPath()
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, fmt.Errorf("read the sign-in: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s can be read by others; run \"chmod 0600 %s\", or \"adytum login\" for a new sign-in", path, path)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read the sign-in: %w", err)
	}
	var s session
	if err := json.Unmarshal(content, &s); err != nil {
		return nil, fmt.Errorf("%s cannot be read; sign in anew with \"adytum login\"", path)
	}
	return &s, nil
}

func (a *app) writeSession(s session) error {
	path, err := a.sessionPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	content, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := writeFile(path, 0o600, content); err != nil {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	return nil
}

var errNotSignedIn = fmt.Errorf("%w; run \"adytum login URL\"", client.ErrNotSignedIn)

// client is a client that is signed in: with a token or a workload's client
// secret from the environment, or with the sign-in that is kept on this device.
func (a *app) client(ctx context.Context) (*client.Client, error) {
	address, named := a.environment("ADYTUM_URL")
	token, hasToken := a.environment("ADYTUM_TOKEN")
	id, hasID := a.environment("ADYTUM_CLIENT_ID")
	signedFile, hasSigned := a.environment("ADYTUM_SIGNED_TOKEN_FILE")
	if hasToken || hasID || hasSigned {
		if !named {
			return nil, usage("ADYTUM_URL is not set; it names the service that ADYTUM_TOKEN, ADYTUM_CLIENT_ID or ADYTUM_SIGNED_TOKEN_FILE is for")
		}
		c, err := client.New(address)
		if err != nil {
			return nil, usage("ADYTUM_URL: %w", err)
		}
		if hasToken {
			c.UseToken(token)
			return c, nil
		}
		if hasSigned {
			return c, a.signInSigned(ctx, c, signedFile, id)
		}
		clientSecret, err := a.clientSecret()
		if err != nil {
			return nil, err
		}
		_, err = c.SignInWorkload(ctx, id, clientSecret)
		return c, err
	}
	s, err := a.readSession()
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, errNotSignedIn
	}
	c, err := client.New(s.URL)
	if err != nil {
		return nil, err
	}
	if named {
		// A token goes to the origin that issued it and nowhere else.
		other, err := client.New(address)
		if err != nil {
			return nil, usage("ADYTUM_URL: %w", err)
		}
		if other.Address() != c.Address() {
			return nil, fmt.Errorf("%w to %s, which ADYTUM_URL names, but to %s; run \"adytum login %s\"", client.ErrNotSignedIn, other.Address(), c.Address(), other.Address())
		}
	}
	if s.Refresh != "" && time.Now().After(s.ExpiresAt.Add(-refreshBefore)) {
		if err := a.goOn(ctx, c, s); err != nil {
			return nil, err
		}
	}
	if time.Now().After(s.ExpiresAt) {
		return nil, fmt.Errorf("%w any more, since %s; run \"adytum login %s\"", client.ErrNotSignedIn, s.ExpiresAt.Local().Format("2006-01-02 15:04"), s.URL)
	}
	c.UseToken(s.Token)
	return c, nil
}

// refreshBefore is how long before its end a token is replaced.
const refreshBefore = time.Minute

// goOn goes on with the sign-in of this device. Shells that do so at once get the
// same.
func (a *app) goOn(ctx context.Context, c *client.Client, s *session) error {
	out, err := c.Refresh(ctx, s.Refresh)
	switch {
	case errors.Is(err, client.ErrNotSignedIn):
		s.Refresh = "" // it has ended, which is told below where the token has too
		return nil
	case errors.Is(err, client.ErrUnreachable) && time.Now().Before(s.ExpiresAt):
		return nil
	case err != nil:
		return err
	}
	s.Token, s.Refresh, s.ExpiresAt = out.AccessToken, out.Refresh, time.Now().Add(time.Duration(out.ExpiresIn)*time.Second)
	return a.writeSession(*s)
}

// signInSigned signs in with the token in a file. A signed token is good once, and
// commands are many: what it was exchanged for is kept on this device until it
// ends, under the hash of the signed token.
func (a *app) signInSigned(ctx context.Context, c *client.Client, path, clientID string) error {
	content, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("read ADYTUM_SIGNED_TOKEN_FILE: %w", err)
	}
	signedToken := strings.TrimSpace(string(content))
	kept, err := a.sessionPath()
	if err != nil {
		return err
	}
	sum := sha256.Sum256([]byte(c.Address() + " " + clientID + " " + signedToken))
	kept = filepath.Join(filepath.Dir(kept), "signed-"+hex.EncodeToString(sum[:16])+".json")
	if content, err := os.ReadFile(kept); err == nil {
		var s session
		if json.Unmarshal(content, &s) == nil && time.Now().Before(s.ExpiresAt.Add(-time.Minute)) {
			c.UseToken(s.Token)
			return nil
		}
	}
	out, err := c.SignInSigned(ctx, signedToken, clientID)
	if err != nil {
		return err
	}
	s := session{URL: c.Address(), Token: out.AccessToken, ExpiresAt: time.Now().Add(time.Duration(out.ExpiresIn) * time.Second)}
	if content, err = json.Marshal(s); err != nil {
		return err
	}
	// Where there is nowhere to keep it, the next command needs a new signed token.
	if os.MkdirAll(filepath.Dir(kept), 0o700) == nil {
		_ = writeFile(kept, 0o600, content)
	}
	return nil
}

func (a *app) clientSecret() (string, error) {
	if clientSecret, set := a.environment("ADYTUM_CLIENT_SECRET"); set {
		return clientSecret, nil
	}
	path, set := a.environment("ADYTUM_CLIENT_SECRET_FILE")
	if !set {
		return "", usage("ADYTUM_CLIENT_ID is set, and neither ADYTUM_CLIENT_SECRET nor ADYTUM_CLIENT_SECRET_FILE is; set one")
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("read ADYTUM_CLIENT_SECRET_FILE: %w", err)
	}
	return strings.TrimSpace(string(content)), nil
}

func (a *app) login() *cli.Command {
	return a.command(&cli.Command{
		Name: "login", Usage: "sign this device in, through the console or with a password", ArgsUsage: "[URL]",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "forget-trail", Usage: "forget the trail's key and checkpoint that this device keeps of the service, where it was replaced or set back on purpose"},
			&cli.BoolFlag{Name: "device", Usage: "show a code to type into the console, on this machine or another; the way at a terminal where no login is named"},
			&cli.StringFlag{Name: "login", Usage: "sign in with a password, as `LOGIN`"},
			&cli.BoolFlag{Name: "password-stdin", Usage: "read the password from standard input"},
			&cli.StringFlag{Name: "code", Usage: "the `CODE` that your authenticator shows, or a recovery code, where you have codes"},
		},
		Action: a.runLogin,
	})
}

func (a *app) runLogin(ctx context.Context, cmd *cli.Command) error {
	if err := arguments(cmd, 0, 1, "[URL]"); err != nil {
		return err
	}
	address := cmd.Args().First()
	if address == "" {
		address, _ = a.environment("ADYTUM_URL")
	}
	if s, err := a.readSession(); address == "" && err == nil && s != nil {
		address = s.URL
	}
	if address == "" {
		return usage("which service? name it: adytum login URL")
	}
	c, err := client.New(address)
	if err != nil {
		return usage("%w", err)
	}
	if cmd.Bool("forget-trail") {
		if err := a.forgetTrail(c.Address()); err != nil {
			return err
		}
	}
	login := cmd.String("login")
	if login == "" && !cmd.Bool("password-stdin") {
		if !terminal(a.in) && !cmd.Bool("device") {
			return usage("whom to sign in? name the login: --login LOGIN; or let somebody type a code into the console: --device")
		}
		return a.loginDevice(ctx, c)
	}
	if login == "" {
		return usage("whom to sign in? name the login: --login LOGIN")
	}
	password, err := a.secretInput(cmd.Bool("password-stdin"), "Password: ", "the password", "--password-stdin")
	if err != nil {
		return err
	}
	request := wire.SignIn{Login: login, Password: strings.TrimRight(string(password), "\r\n"), Code: cmd.String("code"), GoesOn: true}
	if request.Code == "" && terminal(a.in) {
		fmt.Fprint(a.err, "Code (empty if you have none): ")
		if request.Code, err = a.line(); err != nil {
			return err
		}
	}
	out, err := c.SignInWith(ctx, request)
	if err != nil {
		return err
	}
	return a.signedInAs(ctx, c, session{URL: c.Address(), Token: out.Token, Refresh: out.Refresh, Name: out.Who.Name, ExpiresAt: out.ExpiresAt})
}

// loginDevice shows a code, and waits until somebody has typed it into the console
// (RFC 8628).
func (a *app) loginDevice(ctx context.Context, c *client.Client) error {
	host, _ := os.Hostname()
	asked, err := c.AskDevice(ctx, host)
	if err != nil {
		return err
	}
	a.say("Open %s in a browser that is signed in, on any machine, and type this code:", printable(asked.VerificationURI))
	a.say("\n    %s\n", printable(asked.UserCode))
	a.say("It is good for %d minutes. With a password instead: adytum login --login LOGIN. Waiting …", asked.ExpiresIn/60)
	interval := time.Duration(max(asked.Interval, 1)) * time.Second
	for {
		select {
		case <-time.After(interval):
		case <-ctx.Done():
			return ctx.Err()
		}
		out, err := c.TakeDevice(ctx, asked.DeviceCode)
		var problem *client.Error
		switch {
		case err == nil:
			who, err := c.Who(ctx)
			if err != nil {
				return err
			}
			return a.signedInAs(ctx, c, session{URL: c.Address(), Token: out.AccessToken, Refresh: out.Refresh, Name: who.Name, ExpiresAt: who.ExpiresAt})
		case !errors.As(err, &problem), problem.OAuth == "":
			if errors.Is(err, client.ErrUnreachable) {
				continue // for a while, as long as the code is good
			}
			return err
		case problem.OAuth == "slow_down":
			interval += 5 * time.Second
		case problem.OAuth == "access_denied":
			return &exitError{exitNotAllowed, errors.New("whoever typed the code did not let this device in")}
		case problem.OAuth != "authorization_pending":
			return &exitError{exitNotAllowed, errors.New("nobody has typed the code in time; run \"adytum login\" again for another one")}
		}
	}
}

// signedInAs keeps a sign-in on this device.
func (a *app) signedInAs(ctx context.Context, c *client.Client, s session) error {
	if err := a.writeSession(s); err != nil {
		return err
	}
	if err := a.beginKeeping(ctx, c); err != nil {
		a.say("The newest checkpoint of the trail could not be kept: %s.", err)
	}
	a.say("Signed in to %s as %s. It goes on by itself for 30 days; \"adytum logout\" ends it.", c.Address(), printable(s.Name))
	return nil
}

// secretInput reads something that must not show: from standard input where that
// is asked for, otherwise at a prompt without echo.
func (a *app) secretInput(fromStdin bool, prompt, what, option string) ([]byte, error) {
	if fromStdin {
		return readAll(a.in, what)
	}
	f, isFile := a.in.(*os.File)
	if !isFile || !term.IsTerminal(int(f.Fd())) {
		return nil, usage("%s is asked for on a terminal, and this is none; use %s", what, option)
	}
	fmt.Fprint(a.err, prompt)
	b, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.err)
	return b, err
}

func (a *app) logout() *cli.Command {
	return a.command(&cli.Command{
		Name: "logout", Usage: "sign this device out",
		Action: func(ctx context.Context, _ *cli.Command) error {
			s, err := a.readSession()
			if err != nil {
				return err
			}
			if s == nil {
				a.say("This device was not signed in.")
				return nil
			}
			path, _ := a.sessionPath()
			c, err := client.New(s.URL)
			if err != nil {
				return err
			}
			c.UseToken(s.Token)
			revoked := c.SignOut(ctx)
			if err := os.Remove(path); err != nil {
				return fmt.Errorf("forget the sign-in: %w", err)
			}
			if revoked != nil && !errors.Is(revoked, client.ErrNotSignedIn) {
				return fmt.Errorf("this device forgot the sign-in, but the service could not end it: %w", revoked)
			}
			a.say("Signed out of %s.", s.URL)
			return nil
		},
	})
}

func (a *app) whoami() *cli.Command {
	return a.command(&cli.Command{
		Name: "whoami", Usage: "say who is signed in, where, and until when", Flags: []cli.Flag{outputFlag("text", "json")},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			who, err := c.Who(ctx)
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return a.json(who)
			}
			fmt.Fprintf(a.out, "%s (%s %s) at %s until %s\n", printable(who.Name), who.Kind, printable(who.Login), c.Address(), who.ExpiresAt.Local().Format("2006-01-02 15:04"))
			for _, g := range who.Grants {
				fmt.Fprintf(a.out, "  %s in %s\n", g.Role, grantPlace(g))
			}
			return nil
		},
	})
}

func grantPlace(g wire.Grant) string {
	switch {
	case g.Project == "":
		return "the whole organization"
	case g.Environment == "":
		return g.Project
	}
	return g.Project + "/" + g.Environment
}
