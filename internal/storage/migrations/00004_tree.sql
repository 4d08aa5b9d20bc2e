-- +goose Up
-- The trail as a tree: the order of its batches, the tree's tiles, where lanes
-- end, checkpoints, and what was given up of it after its time.

-- Which batch stands where in the tree, and what it is found by.
CREATE TABLE trail_order (
    index       bigint PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    lane        text   NOT NULL,
    first       bigint NOT NULL,
    n           int    NOT NULL,
    earliest    timestamptz NOT NULL,
    latest      timestamptz NOT NULL,
    terms       bigint[] NOT NULL,
    UNIQUE (lane, first)
);
CREATE INDEX trail_order_terms ON trail_order USING gin (terms);
CREATE INDEX trail_order_latest ON trail_order (latest);

CREATE TABLE trail_tiles (
    level       int    NOT NULL,
    index       bigint NOT NULL,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    hashes      bytea  NOT NULL,
    PRIMARY KEY (level, index)
);

CREATE TABLE trail_heads (
    lane        text   PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    seq         bigint NOT NULL,
    closed      boolean NOT NULL DEFAULT false
);
CREATE INDEX trail_heads_open ON trail_heads (lane) WHERE NOT closed AND lane LIKE 'reader-%';

CREATE TABLE checkpoints (
    size        bigint PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    at          timestamptz NOT NULL,
    note        bytea  NOT NULL
);

-- Events that were given up: those before an index, with where the lanes ended
-- there and the checkpoint that covered them.
CREATE TABLE trail_forgotten (
    before      bigint PRIMARY KEY,
    project_id  bigint NOT NULL DEFAULT 0 CHECK (project_id = 0),
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    heads       text   NOT NULL,
    note        bytea  NOT NULL,
    mac         bytea  NOT NULL
);

-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['trail_order', 'trail_tiles', 'trail_heads', 'checkpoints', 'trail_forgotten']
    LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY reading ON %I FOR SELECT TO adytum_service USING (project_id = ANY ((SELECT adytum.read_scope())::bigint[]))', t);
        EXECUTE format('CREATE POLICY writing ON %I FOR INSERT TO adytum_service WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]))', t);
        EXECUTE format('CREATE POLICY keeping ON %I FOR ALL TO adytum_owner USING (true) WITH CHECK (true)', t);
        EXECUTE format('GRANT SELECT, INSERT ON %I TO adytum_service', t);
    END LOOP;
END $$;
-- +goose StatementEnd
CREATE POLICY keeping ON trail_batches FOR ALL TO adytum_owner USING (true) WITH CHECK (true);

-- Tiles and heads move on with the tree; what they say follows from its events.
CREATE POLICY growing ON trail_tiles FOR UPDATE TO adytum_service USING (project_id = ANY ((SELECT adytum.scope())::bigint[])) WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]));
CREATE POLICY growing ON trail_heads FOR UPDATE TO adytum_service USING (project_id = ANY ((SELECT adytum.scope())::bigint[])) WITH CHECK (project_id = ANY ((SELECT adytum.scope())::bigint[]));
GRANT UPDATE ON trail_tiles, trail_heads TO adytum_service;

-- Events are given up by this function alone, which runs as the owner: none that
-- is younger than 90 days, and none that no checkpoint covers. It returns how many
-- batches it gave up. The tree's tiles above the leaves stay, so that what is left
-- can be proven.
-- +goose StatementBegin
CREATE FUNCTION forget_trail(given bigint, given_heads text, given_note bytea, given_mac bytea) RETURNS bigint
LANGUAGE plpgsql SECURITY DEFINER SET search_path = adytum, pg_temp AS $$
DECLARE gone bigint;
BEGIN
    IF EXISTS (SELECT FROM trail_order WHERE index < given AND latest > clock_timestamp() - interval '90 days')
        OR EXISTS (SELECT FROM trail_batches b JOIN trail_order o USING (lane, first) WHERE o.index < given AND b.written_at > clock_timestamp() - interval '90 days') THEN
        RAISE EXCEPTION 'events are kept for 90 days at least' USING ERRCODE = 'AD002';
    END IF;
    IF NOT EXISTS (SELECT FROM checkpoints WHERE size >= given) OR EXISTS (SELECT FROM trail_order WHERE index < given AND index + n > given) THEN
        RAISE EXCEPTION 'no checkpoint covers these events, or a batch would be cut' USING ERRCODE = 'AD003';
    END IF;
    INSERT INTO trail_forgotten (before, heads, note, mac) VALUES (given, given_heads, given_note, given_mac);
    WITH o AS (DELETE FROM trail_order WHERE index < given RETURNING lane, first),
        b AS (DELETE FROM trail_batches USING o WHERE trail_batches.lane = o.lane AND trail_batches.first = o.first RETURNING 1)
        SELECT count(*) INTO gone FROM b;
    DELETE FROM trail_tiles WHERE level = 0 AND (index + 1) * 256 <= given;
    DELETE FROM trail_forgotten WHERE before < given;
    RETURN gone;
END $$;

-- Of checkpoints older than a week the last of each hour stays.
CREATE FUNCTION thin_checkpoints() RETURNS bigint
LANGUAGE plpgsql SECURITY DEFINER SET search_path = adytum, pg_temp AS $$
DECLARE gone bigint;
BEGIN
    WITH d AS (DELETE FROM checkpoints c WHERE at < clock_timestamp() - interval '7 days' AND EXISTS
        (SELECT FROM checkpoints l WHERE l.size > c.size AND date_trunc('hour', l.at) = date_trunc('hour', c.at)) RETURNING 1)
        SELECT count(*) INTO gone FROM d;
    RETURN gone;
END $$;
-- +goose StatementEnd
REVOKE ALL ON FUNCTION forget_trail, thin_checkpoints FROM PUBLIC;
GRANT EXECUTE ON FUNCTION forget_trail, thin_checkpoints TO adytum_service;
