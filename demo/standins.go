package demo

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/standin"
)

// StandIns are who others would be: the provider that people have accounts at, a
// pipeline's runner and a cluster, which sign tokens for what runs there.
type StandIns struct {
	Address  string `json:"address"` // HOST:PORT on loopback, the same in every run
	Accounts string `json:"accounts"`
	Runner   string `json:"runner"`
	Cluster  string `json:"cluster"`
	Audience string `json:"audience"` // that tokens for this installation have
	Secret   string `json:"secret"`   // the service's client secret at the provider
}

// Who has an account at the provider, and what runs at the runner and in the cluster.
const (
	accountEmail  = "sunniva@fernhollow.example"
	accountName   = "Sunniva Halloran"
	runnerSubject = "repository:fernhollow/loans:ref:refs/heads/main"
	podSubject    = "system:serviceaccount:notices:mailer"
)

// serveStandIns serves the stand-ins until stop is called.
func (d *demo) serveStandIns() (stop func() error, err error) {
	s := &d.StandIns
	address := s.Address
	if address == "" {
		address = "127.0.0.1:0"
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%s is in use by another program, and the demo's stand-ins need it: end that, or remove %s to start anew", address, d.Home)
	}
	s.Address = listener.Addr().String()
	mux := http.NewServeMux()
	for name, url := range map[string]*string{"accounts": &s.Accounts, "runner": &s.Runner, "cluster": &s.Cluster} {
		*url = "http://" + s.Address + "/" + name
		provider, err := standin.New(*url, standin.Person{Email: accountEmail, Name: accountName})
		if err != nil {
			return nil, errors.Join(err, listener.Close())
		}
		if s.Secret == "" {
			s.Secret = rand.Text()
		}
		provider.ClientSecret = s.Secret
		mux.Handle("/"+name+"/", http.StripPrefix("/"+name, provider.Handler()))
	}
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	return func() error {
		err := server.Close()
		<-ended
		return err
	}, nil
}

// trustStandIns lets a person sign in through the provider, and workloads with
// what the runner and the cluster sign.
func (d *demo) trustStandIns(ctx context.Context, owner *client.Client) error {
	s := &d.StandIns
	if _, err := owner.AddProvider(ctx, wire.NewProvider{Name: "fernhollow", URL: s.Accounts, ClientID: "adytum", ClientSecret: s.Secret}); err != nil {
		return err
	}
	if _, err := owner.AddPerson(ctx, wire.NewPerson{Login: accountEmail, Name: accountName, Provider: "fernhollow"}); err != nil {
		return err
	}
	if _, err := owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: accountEmail, Role: "editor", Project: "notices", Environment: "local"}); err != nil {
		return err
	}
	for name, url := range map[string]string{"runner": s.Runner, "cluster": s.Cluster} {
		issuer, err := owner.AddIssuer(ctx, wire.NewIssuer{Name: name, URL: url})
		if err != nil {
			return err
		}
		s.Audience = issuer.Audience
	}
	for workload, trust := range map[string]wire.NewTrust{
		"loans-pipeline": {Issuer: "runner", Subject: runnerSubject, Claims: map[string]string{"repository_id": "7301", "ref_protected": "true"}},
		"notices-mailer": {Issuer: "cluster", Subject: podSubject},
	} {
		if _, err := owner.AddTrust(ctx, workload, trust); err != nil {
			return err
		}
	}
	return nil
}
