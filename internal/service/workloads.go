package service

import (
	"context"
	"crypto/rand"
	"strings"
	"time"

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
		_, err = tx.CreateClientSecret(storage.ClientSecret{WorkloadID: w.ID, Hash: access.HashToken(clientSecret), CreatedAt: s.now()})
		return err
	})
	if err != nil {
		out = wire.Workload{}
	}
	return out, err
}

// maxClientSecrets is how many client secrets a workload may have at once.
const maxClientSecrets = 10

// ClientSecrets lists a workload's client secrets, without them. It needs people.
func (s *Service) ClientSecrets(ctx context.Context, caller Caller, workload string) (out []wire.ClientSecret, err error) {
	op := s.begin(ctx, caller, "workload.show", organizationPlace)
	op.event.Names = []string{s.redactName(workload)}
	defer op.end(&err)
	who, err := op.workload(workload)
	if err != nil {
		return nil, err
	}
	out = []wire.ClientSecret{}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		uses, err := tx.LastUses("client secret")
		for _, c := range op.dir.clientSecrets {
			if c.WorkloadID == who.ID {
				out = append(out, wireClientSecret(c, uses[c.ID]))
			}
		}
		return err
	})
	return out, err
}

// workload finds a workload for one who may manage people and workloads.
func (op *operation) workload(name string) (access.Subject, error) {
	if err := op.allow(access.People, organization); err != nil {
		return access.Subject{}, err
	}
	who, exists := op.dir.subject(string(access.Workload), name)
	if !exists {
		var names []string
		for _, w := range op.dir.workloads {
			names = append(names, w.Name)
		}
		return who, problem(NotFound, "there is no workload %q%s", op.service.redact(name), didYouMean(name, names))
	}
	return who, nil
}

// changeWorkload changes how a workload signs in. It needs people.
func (s *Service) changeWorkload(ctx context.Context, caller Caller, action, name string, f func(*operation, *storage.Tx, *directory, access.Subject) error) (err error) {
	op := s.begin(ctx, caller, action, organizationPlace)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		who, err := op.workload(name)
		if err != nil {
			return err
		}
		op.event.Names = []string{who.String()}
		return f(op, tx, d, who)
	})
}

func wireClientSecret(c storage.ClientSecret, used time.Time) wire.ClientSecret {
	out := wire.ClientSecret{ID: c.ID, CreatedAt: c.CreatedAt, LastUsed: used}
	if c.ExpiresAt != nil {
		out.ExpiresAt = *c.ExpiresAt
	}
	return out
}

// AddClientSecret gives a workload one more client secret, which is shown this
// once. It needs people, and the right to give everything that the workload was
// granted: whoever has the secret is the workload.
func (s *Service) AddClientSecret(ctx context.Context, caller Caller, workload string, days int) (out wire.ClientSecret, err error) {
	err = s.changeWorkload(ctx, caller, "workload.secret-add", workload, func(op *operation, tx *storage.Tx, d *directory, who access.Subject) (err error) {
		if err := op.mayGive(who); err != nil {
			return err
		}
		n := 0
		for _, c := range d.clientSecrets {
			if c.WorkloadID == who.ID {
				n++
			}
		}
		if n >= maxClientSecrets {
			return problem(Conflict, "%s has %d client secrets already; remove one that is not used any more", workload, n)
		}
		clientSecret := access.NewToken(access.ClientSecret)
		now := s.now().UTC().Truncate(time.Microsecond)
		row := storage.ClientSecret{WorkloadID: who.ID, Hash: access.HashToken(clientSecret), CreatedAt: now}
		if days > 0 {
			end := now.AddDate(0, 0, days)
			row.ExpiresAt = &end
		}
		if row, err = tx.CreateClientSecret(row); err != nil {
			return err
		}
		out = wireClientSecret(row, time.Time{})
		out.ClientSecret = string(clientSecret.Expose())
		return nil
	})
	if err != nil {
		out = wire.ClientSecret{}
	}
	return out, err
}

// RemoveClientSecret takes a client secret back: it signs in nobody any more;
// tokens that it was exchanged for end on their own. It needs people.
func (s *Service) RemoveClientSecret(ctx context.Context, caller Caller, workload string, id int64) error {
	return s.changeWorkload(ctx, caller, "workload.secret-remove", workload, func(_ *operation, tx *storage.Tx, d *directory, who access.Subject) error {
		for _, c := range d.clientSecrets {
			if c.WorkloadID == who.ID && c.ID == id {
				return tx.DeleteClientSecret(id)
			}
		}
		return problem(NotFound, "%s has no client secret %d", workload, id)
	})
}
