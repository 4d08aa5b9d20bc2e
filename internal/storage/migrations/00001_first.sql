-- +goose Up
-- Every table has the column project_id; rows of the organization have 0 there.
-- What a transaction may see and write follows from the setting adytum.scope,
-- which its first statement sets. Unset and empty both mean nothing at all.

-- +goose StatementBegin
CREATE FUNCTION scope() RETURNS bigint[] LANGUAGE sql STABLE PARALLEL SAFE AS
$$ SELECT nullif(current_setting('adytum.scope', true), '')::bigint[] $$;
-- +goose StatementEnd

-- The organization's rows can be read in every scope, though not without one.
-- +goose StatementBegin
CREATE FUNCTION read_scope() RETURNS bigint[] LANGUAGE sql STABLE PARALLEL SAFE AS
$$ SELECT CASE WHEN adytum.scope() IS NULL THEN NULL ELSE adytum.scope() || 0::bigint END $$;
-- +goose StatementEnd

CREATE TABLE organization (
    id          int    PRIMARY KEY CHECK (id = 1),
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    uid         text   NOT NULL,
    name        text   NOT NULL,
    root_check  bytea  NOT NULL,
    revision    bigint NOT NULL,
    manifest    bytea  NOT NULL,
    created_at  timestamptz NOT NULL
);

CREATE TABLE projects (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    name        text   NOT NULL UNIQUE,
    created_at  timestamptz NOT NULL
);

CREATE TABLE people (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    login       text   NOT NULL UNIQUE,
    password    text   NOT NULL,
    created_at  timestamptz NOT NULL
);

-- Apart from people, so that a name can be erased and the trail stays whole.
CREATE TABLE person_names (
    person_id   bigint PRIMARY KEY REFERENCES people (id),
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    name        text   NOT NULL
);

CREATE TABLE workloads (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    name        text   NOT NULL UNIQUE,
    client_id   text   NOT NULL UNIQUE,
    created_at  timestamptz NOT NULL
);

CREATE TABLE client_secrets (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    workload_id bigint NOT NULL REFERENCES workloads (id),
    hash        bytea  NOT NULL UNIQUE,
    created_at  timestamptz NOT NULL
);

CREATE TABLE tokens (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id   bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    hash         bytea  NOT NULL UNIQUE,
    subject_kind text   NOT NULL CHECK (subject_kind IN ('person', 'workload')),
    subject_id   bigint NOT NULL,
    created_at   timestamptz NOT NULL,
    expires_at   timestamptz NOT NULL,
    mac          bytea  NOT NULL
);

CREATE TABLE revoked_tokens (
    token_id    bigint PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    until       timestamptz NOT NULL
);

CREATE TABLE environments (
    project_id  bigint NOT NULL,
    id          bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    name        text   NOT NULL,
    follows     bigint,
    position    int    NOT NULL,
    created_at  timestamptz NOT NULL,
    PRIMARY KEY (project_id, id),
    UNIQUE (project_id, name),
    FOREIGN KEY (project_id, follows) REFERENCES environments (project_id, id)
);

CREATE TABLE grants (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id     bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    subject_kind   text   NOT NULL CHECK (subject_kind IN ('person', 'workload')),
    subject_id     bigint NOT NULL,
    role           text   NOT NULL,
    on_project     bigint NOT NULL DEFAULT 0,
    on_environment bigint NOT NULL DEFAULT 0,
    created_at     timestamptz NOT NULL,
    UNIQUE (subject_kind, subject_id, role, on_project, on_environment)
);

CREATE TABLE project_keys (
    project_id  bigint NOT NULL,
    id          bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    wrapped     bytea  NOT NULL,
    created_at  timestamptz NOT NULL,
    PRIMARY KEY (project_id, id)
);

CREATE TABLE layers (
    project_id     bigint NOT NULL,
    id             bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    environment_id bigint,
    revision       bigint NOT NULL,
    manifest       bytea  NOT NULL,
    PRIMARY KEY (project_id, id),
    UNIQUE NULLS NOT DISTINCT (project_id, environment_id),
    FOREIGN KEY (project_id, environment_id) REFERENCES environments (project_id, id)
);

CREATE TABLE entries (
    project_id  bigint  NOT NULL,
    id          bigint  GENERATED ALWAYS AS IDENTITY UNIQUE,
    layer_id    bigint  NOT NULL,
    name        text    NOT NULL,
    kind        text    NOT NULL CHECK (kind IN ('secret', 'setting', 'nothing')),
    version     bigint  NOT NULL,
    removed     boolean NOT NULL DEFAULT false,
    PRIMARY KEY (project_id, id),
    FOREIGN KEY (project_id, layer_id) REFERENCES layers (project_id, id)
);
CREATE UNIQUE INDEX entries_name ON entries (project_id, layer_id, name) WHERE NOT removed;

CREATE TABLE versions (
    project_id  bigint NOT NULL,
    entry_id    bigint NOT NULL,
    version     bigint NOT NULL,
    layer_id    bigint NOT NULL,
    kind        text   NOT NULL CHECK (kind IN ('secret', 'setting', 'nothing')),
    setting     text   NOT NULL DEFAULT '',
    sealed      bytea,
    digest      bytea  NOT NULL,
    revision    bigint NOT NULL,
    author_kind text   NOT NULL,
    author_id   bigint NOT NULL,
    created_at  timestamptz NOT NULL,
    PRIMARY KEY (project_id, entry_id, version),
    FOREIGN KEY (project_id, entry_id) REFERENCES entries (project_id, id)
);
CREATE INDEX versions_layer ON versions (project_id, layer_id);

-- Apart from the ciphertext: to delete a row here is to destroy a version.
CREATE TABLE version_keys (
    project_id     bigint NOT NULL,
    entry_id       bigint NOT NULL,
    version        bigint NOT NULL,
    project_key_id bigint NOT NULL,
    wrapped        bytea  NOT NULL,
    PRIMARY KEY (project_id, entry_id, version),
    FOREIGN KEY (project_id, entry_id, version) REFERENCES versions (project_id, entry_id, version),
    FOREIGN KEY (project_id, project_key_id) REFERENCES project_keys (project_id, id)
);

CREATE TABLE changes (
    project_id  bigint NOT NULL,
    layer_id    bigint NOT NULL,
    revision    bigint NOT NULL,
    author_kind text   NOT NULL,
    author_id   bigint NOT NULL,
    created_at  timestamptz NOT NULL,
    reason      text   NOT NULL,
    effects     jsonb  NOT NULL,
    PRIMARY KEY (project_id, layer_id, revision),
    FOREIGN KEY (project_id, layer_id) REFERENCES layers (project_id, id)
);

CREATE TABLE trail_batches (
    lane        text   NOT NULL,
    first       bigint NOT NULL,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    n           int    NOT NULL,
    body        bytea  NOT NULL,
    mac         bytea  NOT NULL,
    written_at  timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (lane, first)
);
CREATE INDEX trail_batches_written ON trail_batches (written_at);

-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['organization', 'projects', 'people', 'person_names', 'workloads', 'client_secrets', 'tokens',
        'revoked_tokens', 'environments', 'grants', 'project_keys', 'layers', 'entries', 'versions', 'version_keys', 'changes', 'trail_batches']
    LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY reading ON %I FOR SELECT TO adytum_service USING (project_id = ANY ((SELECT adytum.read_scope())::bigint[]))', t);
        IF t <> 'trail_batches' THEN
            EXECUTE format('CREATE POLICY writing ON %I FOR ALL TO adytum_service USING (project_id = ANY ((SELECT adytum.scope())::bigint[])) WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]))', t);
            EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO adytum_service', t);
        END IF;
    END LOOP;
END $$;
-- +goose StatementEnd

-- The trail is written and read, and never changed: a change's event is written
-- in the scope of its project, so any scope will do.
CREATE POLICY writing ON trail_batches FOR INSERT TO adytum_service WITH CHECK ((SELECT adytum.scope()) IS NOT NULL);
GRANT SELECT, INSERT ON trail_batches TO adytum_service;

-- The flush sees what it compares and nothing more.
CREATE POLICY flushing ON organization FOR SELECT TO adytum_flush USING (true);
CREATE POLICY flushing ON layers FOR SELECT TO adytum_flush USING (true);
CREATE POLICY flushing ON revoked_tokens FOR SELECT TO adytum_flush USING (true);
CREATE POLICY flushing ON trail_batches FOR ALL TO adytum_flush USING (true) WITH CHECK (true);
GRANT SELECT (revision) ON organization TO adytum_flush;
GRANT SELECT (id, revision) ON layers TO adytum_flush;
GRANT SELECT (token_id) ON revoked_tokens TO adytum_flush;
GRANT SELECT, INSERT ON trail_batches TO adytum_flush;

-- Ids that go into what is signed before the row is written.
GRANT USAGE ON SEQUENCE tokens_id_seq, project_keys_id_seq TO adytum_service;

GRANT USAGE ON SCHEMA adytum TO adytum_service, adytum_flush;
GRANT SELECT ON goose_db_version TO adytum_service;
