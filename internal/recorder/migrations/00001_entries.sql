-- +goose Up
CREATE TABLE sites (
  id   text PRIMARY KEY, -- of the site, in all of its folders
  name text NOT NULL
);
CREATE TABLE writers (
  site text NOT NULL REFERENCES sites, id text NOT NULL,
  name text NOT NULL, fingerprint text NOT NULL, -- of its key
  PRIMARY KEY (site, id)
);
CREATE TABLE entries (
  hash   text PRIMARY KEY, -- SHA-256 of the entry and its predecessor
  site   text NOT NULL REFERENCES sites,
  writer text NOT NULL, n bigint NOT NULL, -- its number in the chain of its writer, from 1
  ord    bigint NOT NULL, -- microseconds since 1970: the order of all entries of a site
  at     timestamptz NOT NULL, -- in SQLite a text,
  kind   text NOT NULL, job text NOT NULL, device text NOT NULL,
  body   jsonb NOT NULL,
  UNIQUE (site, writer, n)
);
CREATE INDEX entries_kind ON entries (kind, at);
CREATE INDEX entries_device ON entries (site, device, kind, ord);
CREATE INDEX entries_job ON entries (site, job);

CREATE VIEW devices AS
SELECT site, device, at AS seen, body->>'name' AS name, body->'reading'->>'vendor' AS vendor,
       body->'reading'->>'model' AS model, body->'reading'->>'serial' AS serial,
       body->'reading'->>'version' AS version
FROM (SELECT e.*, row_number() OVER (PARTITION BY site, device ORDER BY ord DESC, writer DESC) AS newest
      FROM entries e WHERE kind = 'seen') AS readings
WHERE newest = 1 AND NOT EXISTS (SELECT 1 FROM entries same
  WHERE same.site = readings.site AND same.kind = 'same-device' AND same.device = readings.device);

CREATE VIEW jobs AS
SELECT started.site, started.job, started.writer, started.at AS started, ended.at AS ended,
       started.body->>'purpose' AS purpose, started.body->>'name' AS order_name
FROM entries started
LEFT JOIN entries ended ON ended.site = started.site AND ended.job = started.job AND ended.kind = 'job-closed'
WHERE started.kind = 'job-started';

CREATE VIEW outcomes AS
SELECT site, job, device, at, body->>'end' AS outcome, body->>'version' AS version
FROM entries WHERE kind = 'device-ended';

-- +goose Down
DROP VIEW outcomes; DROP VIEW jobs; DROP VIEW devices;
DROP TABLE entries; DROP TABLE writers; DROP TABLE sites;
