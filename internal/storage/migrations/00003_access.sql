-- +goose Up
-- Teams, roles of an organization's own, limits of grants, and what is frozen.

CREATE TABLE teams (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    name        text   NOT NULL UNIQUE,
    created_at  timestamptz NOT NULL
);

CREATE TABLE team_members (
    team_id     bigint NOT NULL REFERENCES teams (id) ON DELETE CASCADE,
    person_id   bigint NOT NULL REFERENCES people (id),
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    PRIMARY KEY (team_id, person_id)
);

CREATE TABLE roles (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    name        text   NOT NULL UNIQUE,
    verbs       text   NOT NULL,
    created_at  timestamptz NOT NULL
);

-- What is frozen: a person, a workload, a project, or the organization with id 0.
CREATE TABLE frozen (
    kind        text   NOT NULL CHECK (kind IN ('person', 'workload', 'project', 'organization')),
    of          bigint NOT NULL,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    since       timestamptz NOT NULL,
    PRIMARY KEY (kind, of)
);

ALTER TABLE grants DROP CONSTRAINT grants_subject_kind_check,
    ADD CONSTRAINT grants_subject_kind_check CHECK (subject_kind IN ('person', 'workload', 'team')),
    DROP CONSTRAINT grants_subject_kind_subject_id_role_on_project_on_environme_key,
    ADD COLUMN names    text NOT NULL DEFAULT '',
    ADD COLUMN until    timestamptz,
    ADD COLUMN networks text NOT NULL DEFAULT '',
    ADD CONSTRAINT grants_once UNIQUE (subject_kind, subject_id, role, on_project, on_environment, names);

ALTER TABLE client_secrets ADD COLUMN expires_at timestamptz;

-- A person's time-based codes (RFC 6238): the seed, sealed, and the hashes of the
-- recovery codes that are left. It counts once it was confirmed.
CREATE TABLE factors (
    person_id    bigint PRIMARY KEY REFERENCES people (id),
    project_id   bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    sealed       bytea  NOT NULL,
    recovery     text   NOT NULL DEFAULT '',
    confirmed_at timestamptz,
    created_at   timestamptz NOT NULL
);

-- Codes that were used: none is good twice.
CREATE TABLE used_codes (
    person_id   bigint NOT NULL REFERENCES people (id),
    step        bigint NOT NULL,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    PRIMARY KEY (person_id, step)
);

-- Who may choose a password once, with what they were sent.
CREATE TABLE invitations (
    person_id   bigint PRIMARY KEY REFERENCES people (id),
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    hash        bytea  NOT NULL UNIQUE,
    expires_at  timestamptz NOT NULL
);

-- Whose signed tokens are accepted, for which workloads, and which were used.
CREATE TABLE issuers (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    name        text   NOT NULL UNIQUE,
    url         text   NOT NULL UNIQUE,
    created_at  timestamptz NOT NULL
);

CREATE TABLE trusts (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    workload_id bigint NOT NULL REFERENCES workloads (id),
    issuer_id   bigint NOT NULL REFERENCES issuers (id) ON DELETE CASCADE,
    subject     text   NOT NULL,
    claims      text   NOT NULL DEFAULT '',
    created_at  timestamptz NOT NULL
);

CREATE TABLE used_signed (
    issuer_id   bigint NOT NULL REFERENCES issuers (id) ON DELETE CASCADE,
    hash        bytea  NOT NULL,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    expires_at  timestamptz NOT NULL,
    PRIMARY KEY (issuer_id, hash)
);

-- Roles that people ask for, for some hours.
CREATE TABLE role_requests (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id     bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    person_id      bigint NOT NULL REFERENCES people (id),
    role           text   NOT NULL,
    on_project     bigint NOT NULL DEFAULT 0,
    on_environment bigint NOT NULL DEFAULT 0,
    hours          int    NOT NULL,
    reason         text   NOT NULL DEFAULT '',
    created_at     timestamptz NOT NULL
);

ALTER TABLE people ADD COLUMN removed_at timestamptz;
ALTER TABLE tokens ADD COLUMN opened_from text NOT NULL DEFAULT '';
CREATE INDEX tokens_subject ON tokens (subject_kind, subject_id);

-- When something was last used: no more than a hint for people, and not signed.
CREATE TABLE last_uses (
    kind        text   NOT NULL CHECK (kind IN ('client secret')),
    of          bigint NOT NULL,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    at          timestamptz NOT NULL,
    PRIMARY KEY (kind, of)
);

-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['teams', 'team_members', 'roles', 'frozen', 'factors', 'used_codes', 'invitations', 'issuers', 'trusts', 'used_signed', 'role_requests', 'last_uses']
    LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY reading ON %I FOR SELECT TO adytum_service USING (project_id = ANY ((SELECT adytum.read_scope())::bigint[]))', t);
        EXECUTE format('CREATE POLICY writing ON %I FOR ALL TO adytum_service USING (project_id = ANY ((SELECT adytum.scope())::bigint[])) WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]))', t);
        EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO adytum_service', t);
    END LOOP;
END $$;
-- +goose StatementEnd
