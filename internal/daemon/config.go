// Package daemon wires the service's rooms together and serves them: it reads
// the configuration, opens the database with the root key, and listens.
package daemon

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/mail"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"adytum.example/internal/core/layers"
	"adytum.example/internal/outside"
	"adytum.example/internal/service"
)

// Config is the service's configuration. Each field can be set in adytumd.yaml,
// by an environment variable ADYTUMD_* and by a flag; later wins.
type Config struct {
	Listen      string `yaml:"listen"`         // HOST:PORT
	Database    string `yaml:"database"`       // URL of the role adytum_service
	Flush       string `yaml:"database-flush"` // URL of the role adytum_flush
	Jobs        string `yaml:"database-jobs"`  // URL of the role adytum_jobs; empty: no background work here
	RootKeyFile string `yaml:"root-key-file"`
	Certificate string `yaml:"tls-certificate"` // PEM file; required unless on loopback
	PrivateKey  string `yaml:"tls-private-key"` // PEM file
	LogLevel    string `yaml:"log-level"`       // debug, info, warn, error
	LogFormat   string `yaml:"log-format"`      // json, text
	Proxies     string `yaml:"trusted-proxies"` // networks, separated by white space
	Checkpoint  string `yaml:"checkpoint-file"` // where the newest checkpoint is kept beside the database
	MailServer  string `yaml:"smtp-server"`     // HOST:PORT to send mail through; TLS, but on loopback
	MailFrom    string `yaml:"smtp-from"`       // mail address
	MailUser    string `yaml:"smtp-user"`
	MailFile    string `yaml:"smtp-password-file"`
	KeepTrail   string `yaml:"keep-trail-days"` // events older than that are given up; 0: none

	Migrate string `yaml:"database-migrate"` // URL of the role adytum_migrate; for migrate and setup

	// Now is the time, nil: the machine's, corrected by the database's. Clock is the
	// machine's, nil: the system's. They are no settings.
	Now func() time.Time `yaml:"-"`
	// Through is for measures alone.
	Through func(service.Flusher) service.Flusher `yaml:"-"`
	Clock   func() time.Time                      `yaml:"-"`
}

// Defaults are what holds where nothing is set.
var Defaults = Config{Listen: "127.0.0.1:8743", RootKeyFile: "/etc/adytum/root.key", LogLevel: "info", LogFormat: "json", KeepTrail: "0"}

// Setting is one field of the configuration with its names.
type Setting struct {
	Key    string // in the file and as a flag
	Target *string
}

// Settings are all fields.
func (c *Config) Settings() []Setting {
	return []Setting{
		{"listen", &c.Listen}, {"database", &c.Database}, {"database-flush", &c.Flush}, {"database-migrate", &c.Migrate}, {"database-jobs", &c.Jobs},
		{"root-key-file", &c.RootKeyFile}, {"tls-certificate", &c.Certificate}, {"tls-private-key", &c.PrivateKey},
		{"log-level", &c.LogLevel}, {"log-format", &c.LogFormat}, {"trusted-proxies", &c.Proxies},
		{"checkpoint-file", &c.Checkpoint}, {"keep-trail-days", &c.KeepTrail},
		{"smtp-server", &c.MailServer}, {"smtp-from", &c.MailFrom}, {"smtp-user", &c.MailUser}, {"smtp-password-file", &c.MailFile},
	}
}

// Variable is the name of a setting's environment variable.
func Variable(key string) string {
	return "ADYTUMD_" + strings.ToUpper(strings.ReplaceAll(key, "-", "_"))
}

// Load reads the configuration: defaults, then the file (which need not exist
// unless it was named), then the environment.
func Load(path string, named bool, environment func(string) (string, bool)) (Config, error) {
	c := Defaults
	content, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && !named:
	case err != nil:
		return c, fmt.Errorf("read the configuration: %w", err)
	default:
		if err := c.parse(path, content); err != nil {
			return c, err
		}
	}
	for _, s := range c.Settings() {
		if value, set := environment(Variable(s.Key)); set {
			*s.Target = value
		}
	}
	return c, nil
}

func (c *Config) parse(path string, content []byte) error {
	var raw map[string]any
	if err := yaml.Unmarshal(content, &raw); err != nil {
		return fmt.Errorf("%s is not YAML with one name and value per line", path)
	}
	known := map[string]*string{}
	var names []string
	for _, s := range c.Settings() {
		known[s.Key] = s.Target
		names = append(names, s.Key)
	}
	var all []error
	for key, value := range raw {
		target, exists := known[key]
		if !exists {
			hint := ""
			if near := layers.Nearest(key, names); near != "" {
				hint = "; did you mean " + near + "?"
			}
			all = append(all, fmt.Errorf("%s has the setting %q, which there is not%s", path, key, hint))
			continue
		}
		*target = fmt.Sprint(value)
	}
	return errors.Join(all...)
}

// keepTrailDays reads after how many days events are given up.
func (c Config) keepTrailDays() (int, error) {
	days, err := strconv.Atoi(c.KeepTrail)
	if err != nil || days < 0 || days > 0 && days < service.LeastTrailDays {
		return 0, fmt.Errorf("the setting keep-trail-days is %q; it is 0, for all events, or %d days or more", c.KeepTrail, service.LeastTrailDays)
	}
	return days, nil
}

// mail reads how mail is sent.
func (c Config) mail() (outside.Server, error) {
	if c.MailServer == "" {
		return outside.Server{}, nil
	}
	s := outside.Server{Address: c.MailServer, From: c.MailFrom, User: c.MailUser}
	host, _, err := net.SplitHostPort(c.MailServer)
	if err != nil {
		return s, fmt.Errorf("the setting smtp-server is %q; it has the form HOST:PORT", c.MailServer)
	}
	if a, err := mail.ParseAddress(c.MailFrom); err != nil || a.Address != c.MailFrom {
		return s, fmt.Errorf("the setting smtp-from is %q; it is the mail address that alerts come from", c.MailFrom)
	}
	s.Plain = isLoopback(host)
	if (c.MailUser == "") != (c.MailFile == "") {
		return s, errors.New("smtp-user and smtp-password-file are set together or not at all")
	}
	if c.MailFile != "" {
		content, err := os.ReadFile(c.MailFile)
		if err != nil {
			return s, fmt.Errorf("read smtp-password-file: %w", err)
		}
		s.Password = strings.TrimRight(string(content), "\r\n")
	}
	return s, nil
}

// proxies reads the networks of proxies that are trusted.
func (c Config) proxies() ([]netip.Prefix, error) {
	var all []netip.Prefix
	for _, text := range strings.Fields(strings.ReplaceAll(c.Proxies, ",", " ")) {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("the setting trusted-proxies has %q, which is no network; it is an address with the bits that count, 10.0.0.0/24 for example", text)
		}
		all = append(all, network.Masked())
	}
	return all, nil
}

// Check names everything that is wrong with the configuration for serving.
func (c Config) Check() error {
	var all []error
	missing := func(key, value string) {
		if value == "" {
			all = append(all, fmt.Errorf("the setting %s is missing; set it in the configuration file or as %s", key, Variable(key)))
		}
	}
	missing("database", c.Database)
	missing("database-flush", c.Flush)
	missing("root-key-file", c.RootKeyFile)
	host, _, err := net.SplitHostPort(c.Listen)
	if err != nil {
		all = append(all, fmt.Errorf("the setting listen is %q; it has the form HOST:PORT, such as 127.0.0.1:8743", c.Listen))
	} else if !isLoopback(host) && c.Certificate == "" {
		all = append(all, fmt.Errorf("%s is not on loopback, and plain HTTP is served on loopback alone; set tls-certificate and tls-private-key", c.Listen))
	}
	if (c.Certificate == "") != (c.PrivateKey == "") {
		all = append(all, errors.New("tls-certificate and tls-private-key are set together or not at all"))
	}
	if _, err := c.proxies(); err != nil {
		all = append(all, err)
	}
	if _, err := c.mail(); err != nil {
		all = append(all, err)
	}
	if _, err := c.keepTrailDays(); err != nil {
		all = append(all, err)
	}
	if _, err := c.Logger(io.Discard); err != nil {
		all = append(all, err)
	}
	return errors.Join(all...)
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Logger makes the logger that the configuration asks for.
func (c Config) Logger(out io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.LogLevel)); err != nil {
		return nil, fmt.Errorf("the setting log-level is %q; there are debug, info, warn and error", c.LogLevel)
	}
	options := &slog.HandlerOptions{Level: level}
	switch c.LogFormat {
	case "json":
		return slog.New(slog.NewJSONHandler(out, options)), nil
	case "text":
		return slog.New(slog.NewTextHandler(out, options)), nil
	}
	return nil, fmt.Errorf("the setting log-format is %q; there are json and text", c.LogFormat)
}
