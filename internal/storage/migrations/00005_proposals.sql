-- +goose Up
-- Changes that wait for a second person's approval, and where they have to.

ALTER TABLE environments ADD COLUMN approval boolean NOT NULL DEFAULT false;

-- What is proposed is sealed: it holds the values that would be kept.
CREATE TABLE proposals (
    project_id     bigint NOT NULL,
    id             bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    layer_id       bigint,
    environment_id bigint NOT NULL DEFAULT 0,
    base           bigint NOT NULL,
    proposer_kind  text   NOT NULL CHECK (proposer_kind IN ('person', 'workload')),
    proposer_id    bigint NOT NULL,
    network        text   NOT NULL,
    reason         text   NOT NULL DEFAULT '',
    created_at     timestamptz NOT NULL,
    sealed         bytea  NOT NULL,
    PRIMARY KEY (project_id, id),
    FOREIGN KEY (project_id, layer_id) REFERENCES layers (project_id, id)
);

ALTER TABLE proposals ENABLE ROW LEVEL SECURITY;
ALTER TABLE proposals FORCE ROW LEVEL SECURITY;
CREATE POLICY reading ON proposals FOR SELECT TO adytum_service USING (project_id = ANY ((SELECT adytum.read_scope())::bigint[]));
CREATE POLICY writing ON proposals FOR ALL TO adytum_service USING (project_id = ANY ((SELECT adytum.scope())::bigint[])) WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]));
GRANT SELECT, INSERT, UPDATE, DELETE ON proposals TO adytum_service;
GRANT USAGE ON SEQUENCE proposals_id_seq TO adytum_service;
