-- +goose Up
-- Sign-ins that go on by refresh tokens, devices that wait to be let in, and
-- identity providers of the organization's own.

-- A family is one sign-in; its number is that of its first access token.
ALTER TABLE tokens ADD COLUMN family bigint NOT NULL DEFAULT 0;

CREATE TABLE providers (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id    bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    name          text   NOT NULL UNIQUE,
    url           text   NOT NULL UNIQUE,
    client_id     text   NOT NULL,
    sealed        bytea  NOT NULL,
    created_at    timestamptz NOT NULL
);

-- Who signs in through a provider: by the login until the first time, by the
-- provider's own subject from then on.
CREATE TABLE accounts (
    person_id     bigint PRIMARY KEY REFERENCES people (id),
    project_id    bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    provider_id   bigint NOT NULL REFERENCES providers (id) ON DELETE CASCADE,
    subject       text   NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX accounts_subject ON accounts (provider_id, subject) WHERE subject <> '';

CREATE TABLE refresh_tokens (
    hash          bytea  PRIMARY KEY,
    project_id    bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    family        bigint NOT NULL,
    person_id     bigint NOT NULL,
    opened_from   text   NOT NULL,
    opened_at     timestamptz NOT NULL,
    expires_at    timestamptz NOT NULL,
    replaced_at   timestamptz,
    replaced_from text   NOT NULL DEFAULT '',
    mac           bytea  NOT NULL
);
CREATE INDEX refresh_tokens_family ON refresh_tokens (family);
CREATE INDEX refresh_tokens_person ON refresh_tokens (person_id);

-- What a provider is asked again with whether somebody's account is still there,
-- and when it was asked last: sealed.
CREATE TABLE upstreams (
    person_id     bigint PRIMARY KEY REFERENCES people (id),
    project_id    bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    sealed        bytea  NOT NULL
);

-- RFC 8628. Both codes are stored as hashes.
CREATE TABLE devices (
    hash          bytea  PRIMARY KEY,
    project_id    bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    code_hash     bytea  NOT NULL UNIQUE,
    host          text   NOT NULL,
    network       text   NOT NULL,
    asked_at      timestamptz NOT NULL,
    polled_at     timestamptz,
    person_id     bigint NOT NULL DEFAULT 0,
    answer        text   NOT NULL DEFAULT '' CHECK (answer IN ('', 'allowed', 'denied')),
    mac           bytea  NOT NULL
);

-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['providers', 'accounts', 'refresh_tokens', 'upstreams', 'devices']
    LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY reading ON %I FOR SELECT TO adytum_service USING (project_id = ANY ((SELECT adytum.read_scope())::bigint[]))', t);
        EXECUTE format('CREATE POLICY writing ON %I FOR ALL TO adytum_service USING (project_id = ANY ((SELECT adytum.scope())::bigint[])) WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]))', t);
        EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO adytum_service', t);
    END LOOP;
END $$;
-- +goose StatementEnd
GRANT USAGE ON SEQUENCE providers_id_seq TO adytum_service;
