-- +goose Up
-- Whether everybody who signs in with a password must have time-based codes.
ALTER TABLE organization ADD COLUMN codes boolean NOT NULL DEFAULT false;
