-- +goose Up
-- What is out of the ordinary, whom to tell, and what nobody needs.

CREATE TABLE baselines (
    actor       text   PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    content     jsonb  NOT NULL,
    at          timestamptz NOT NULL
);

CREATE TABLE alerts (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id     bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    at             timestamptz NOT NULL,
    kind           text   NOT NULL,
    actor          text   NOT NULL,
    network        text   NOT NULL,
    on_project     text   NOT NULL DEFAULT '',
    on_environment text   NOT NULL DEFAULT '',
    what           text   NOT NULL,
    lane           text   NOT NULL,
    seq            bigint NOT NULL,
    seen_by        text   NOT NULL DEFAULT '',
    seen_at        timestamptz
);
CREATE INDEX alerts_open ON alerts (id) WHERE seen_at IS NULL;

-- Where alerts are sent: a mail address, or a webhook, of whose address, which may
-- be a credential, only the host stands here, and all of it sealed beside it.
CREATE TABLE channels (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    kind        text   NOT NULL CHECK (kind IN ('webhook', 'mail')),
    target      text   NOT NULL,
    sealed      bytea  NOT NULL DEFAULT '',
    created_at  timestamptz NOT NULL
);
CREATE UNIQUE INDEX channels_mail ON channels (target) WHERE kind = 'mail';

CREATE TABLE deliveries (
    alert_id    bigint NOT NULL REFERENCES alerts (id) ON DELETE CASCADE,
    channel_id  bigint NOT NULL REFERENCES channels (id) ON DELETE CASCADE,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    tries       int    NOT NULL DEFAULT 0,
    next_at     timestamptz,
    done_at     timestamptz,
    problem     text   NOT NULL DEFAULT '',
    PRIMARY KEY (alert_id, channel_id)
);
CREATE INDEX deliveries_due ON deliveries (next_at) WHERE done_at IS NULL AND next_at IS NOT NULL;

-- What nobody needs, so that its use tells of one who should not be there: a name
-- in a layer, or a workload.
CREATE TABLE decoys (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    layer_id    bigint NOT NULL DEFAULT 0,
    name        text   NOT NULL DEFAULT '',
    workload_id bigint NOT NULL DEFAULT 0,
    created_at  timestamptz NOT NULL,
    UNIQUE (layer_id, name, workload_id)
);

-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['baselines', 'alerts', 'channels', 'deliveries', 'decoys']
    LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY reading ON %I FOR SELECT TO adytum_service USING (project_id = ANY ((SELECT adytum.read_scope())::bigint[]))', t);
        EXECUTE format('CREATE POLICY writing ON %I FOR ALL TO adytum_service USING (project_id = ANY ((SELECT adytum.scope())::bigint[])) WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]))', t);
        EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO adytum_service', t);
    END LOOP;
END $$;
-- +goose StatementEnd
