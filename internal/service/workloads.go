package service

import (
	"context"
	"crypto/rand"
	"strings"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/storage"
)

// Workloads lists the programs that can sign in. It needs people.
func (s *Service) Workloads(ctx context.Context, caller Caller) (out []wire.Workload, err error) {
	op := s.begin(ctx, caller, "workload.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.People, located{place: organizationPlace}); err != nil {
		return nil, err
	}
	out = []wire.Workload{}
	for _, w := range op.dir.workloads {
		out = append(out, wire.Workload{Name: w.Name, ClientID: w.ClientID, CreatedAt: w.CreatedAt})
	}
	return out, nil
}

// AddWorkload makes a workload with its first client secret, which is shown this
// once. It needs people.
func (s *Service) AddWorkload(ctx context.Context, caller Caller, name string) (out wire.Workload, err error) {
	op := s.begin(ctx, caller, "workload.add", organizationPlace)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	if err := checkPlace("a workload", name, reference.ValidPlace(name)); err != nil {
		return out, err
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.People, located{place: organizationPlace}); err != nil {
			return err
		}
		w, err := tx.CreateWorkload(storage.Workload{Name: name, ClientID: name + "-" + strings.ToLower(rand.Text()[:8]), CreatedAt: s.now()})
		if err != nil {
			return taken(err, "a workload", name)
		}
		clientSecret := access.NewToken(access.ClientSecret)
		out = wire.Workload{Name: w.Name, ClientID: w.ClientID, CreatedAt: w.CreatedAt, ClientSecret: string(clientSecret.Expose())}
		return tx.CreateClientSecret(storage.ClientSecret{WorkloadID: w.ID, Hash: access.HashToken(clientSecret), CreatedAt: s.now()})
	})
	if err != nil {
		out = wire.Workload{}
	}
	return out, err
}
