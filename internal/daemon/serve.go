package daemon

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"syscall"
	"time"

	"adytum.example/internal/api"
	"adytum.example/internal/console"
	"adytum.example/internal/jobs"
	"adytum.example/internal/outside"
	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

// shutdownTime is how long requests under way may take to end.
const shutdownTime = 15 * time.Second

// Serve serves until ctx ends. It calls ready with the address once requests
// are answered. It touches nothing where the configuration, the root key or the
// database is not as it must be.
func Serve(ctx context.Context, c Config, log *slog.Logger, ready func(url string)) error {
	if err := c.Check(); err != nil {
		return err
	}
	defer collectSeldom(ctx)()
	store, err := storage.Open(c.Database, log)
	if err != nil {
		return err
	}
	defer store.Close()
	host, _, _ := net.SplitHostPort(c.Listen) // checked above
	proxies, _ := c.proxies()
	s, err := service.Open(ctx, c.service(store, log, outside.New(isLoopback(host))))
	if err != nil {
		return err
	}
	defer s.Close(context.WithoutCancel(ctx))

	if c.Jobs == "" {
		log.Warn("the setting database-jobs is missing: this instance does no background work, such as purging what was removed long ago")
	} else {
		runner, err := jobs.Start(ctx, c.Jobs, s, log)
		if err != nil {
			return err
		}
		defer runner.Stop(context.WithoutCancel(ctx))
	}

	listener, err := listen(c)
	if err != nil {
		return err
	}
	secure := c.Certificate != ""
	server := &http.Server{
		Handler:           api.New(api.Options{Service: s, Console: console.Handler(), Log: log, Secure: secure, Proxies: proxies}),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       90 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelDebug),
		TLSConfig:         &tls.Config{MinVersion: tls.VersionTLS13},
	}
	ended := make(chan error, 1)
	go func() {
		if secure {
			ended <- server.ServeTLS(listener, c.Certificate, c.PrivateKey)
		} else {
			ended <- server.Serve(listener)
		}
	}()
	scheme := "http"
	if secure {
		scheme = "https"
	}
	log.Info("serving", "address", scheme+"://"+listener.Addr().String())
	ready(scheme + "://" + listener.Addr().String())
	select {
	case err := <-ended:
		return fmt.Errorf("serve: %w", err)
	case <-ctx.Done():
	}
	log.Info("ending")
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), shutdownTime)
	defer cancel()
	if err := server.Shutdown(stop); err != nil {
		return fmt.Errorf("end requests under way: %w", err)
	}
	return nil
}

// service is what the service is made of.
func (c Config) service(store *storage.Store, log *slog.Logger, fetcher *outside.Fetcher) service.Config {
	days, _ := c.keepTrailDays() // checked above
	out := service.Config{Store: store, FlushURL: c.Flush, RootKeys: rootKeys(c.RootKeyFile), Now: c.Now, Clock: c.Clock, Through: c.Through, Log: log, Redact: redactor(),
		CheckpointFile: c.Checkpoint, KeepTrailDays: days}
	if fetcher != nil {
		server, _ := c.mail() // checked above
		out.Outside, out.Identities, out.Messenger = fetcher, outside.NewIdentities(fetcher), outside.NewMessenger(fetcher, server, service.ErrNoMail)
	}
	return out
}

// AcceptTrail accepts a trail that does not go on from the checkpoint that was
// kept, and records why.
func AcceptTrail(ctx context.Context, c Config, reason string, log *slog.Logger) error {
	if err := c.Check(); err != nil {
		return err
	}
	store, err := storage.Open(c.Database, log)
	if err != nil {
		return err
	}
	defer store.Close()
	return service.AcceptTrail(ctx, c.service(store, log, nil), reason)
}

func listen(c Config) (net.Listener, error) {
	listener, err := net.Listen("tcp", c.Listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is in use by another program; end that or choose another address with --listen", c.Listen)
	} else if err != nil {
		return nil, fmt.Errorf("listen on %s: %w", c.Listen, err)
	}
	return listener, nil
}
