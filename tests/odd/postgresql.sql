CREATE SCHEMA "side.show";
CREATE EXTENSION citext;
CREATE TYPE mood AS ENUM ('calm', 'rough', 'sto''rm');
CREATE TYPE place AS (name text, depth numeric(6, 2));
CREATE DOMAIN fathoms AS numeric CHECK (VALUE >= 0);
CREATE TYPE floatrange AS RANGE (subtype = float8);
CREATE COLLATION "odd order" (provider = libc, locale = 'C');
CREATE SEQUENCE buoys START 7 INCREMENT -3 MINVALUE -1000 MAXVALUE 7 CYCLE;
SELECT nextval('buoys'), nextval('buoys');
CREATE FUNCTION fathoms_to_cm(f fathoms) RETURNS bigint LANGUAGE sql IMMUTABLE AS $q$ SELECT (f * 182.88)::bigint; $q$;
CREATE FUNCTION longer(a text, b text) RETURNS text LANGUAGE sql IMMUTABLE AS 'SELECT CASE WHEN length(a) > length(b) THEN a ELSE b END';
CREATE AGGREGATE longest(text) (sfunc = longer, stype = text, initcond = '');
CREATE TABLE everything (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  a_smallint smallint, a_bigint bigint, a_numeric numeric, a_scaled numeric(12, 4), a_real real, a_double double precision,
  a_money money, a_bool boolean, a_char char(5), a_varchar varchar(40), a_text text COLLATE "odd order", a_citext citext,
  a_bytea bytea, a_date date, a_time time(6), a_timetz timetz, a_timestamp timestamp, a_timestamptz timestamptz,
  an_interval interval, a_uuid uuid, a_json json, a_jsonb jsonb, an_xml xml, an_inet inet, a_cidr cidr, a_macaddr macaddr,
  a_bit bit(3), a_varbit varbit, a_point point, a_line line, a_lseg lseg, a_box box, a_path path, a_polygon polygon,
  a_circle circle, a_tsvector tsvector, a_tsquery tsquery, an_int4range int4range, a_tstzrange tstzrange,
  a_floatrange floatrange, an_array integer[], a_text_array text[], a_mood mood, moods mood[], a_fathoms fathoms,
  a_place place, places place[], an_oid oid, a_lsn pg_lsn, an_internal "char", a_name name,
  depth_cm bigint GENERATED ALWAYS AS (fathoms_to_cm(a_fathoms)) STORED
);
INSERT INTO everything (
  a_smallint, a_bigint, a_numeric, a_scaled, a_real, a_double, a_money, a_bool, a_char, a_varchar, a_text, a_citext,
  a_bytea, a_date, a_time, a_timetz, a_timestamp, a_timestamptz, an_interval, a_uuid, a_json, a_jsonb, an_xml, an_inet,
  a_cidr, a_macaddr, a_bit, a_varbit, a_point, a_line, a_lseg, a_box, a_path, a_polygon, a_circle, a_tsvector, a_tsquery,
  an_int4range, a_tstzrange, a_floatrange, an_array, a_text_array, a_mood, moods, a_fathoms, a_place, places, an_oid, a_lsn,
  an_internal, a_name
) VALUES
(32767, -9223372036854775808, 'NaN', 1.5, 'NaN', '-0', '12.34', true, 'ab', E'tab\tnew\nline', 'Käthe ⚓ 🛟', 'MiXed',
 '\x00ff00', '4713-01-01 BC', '23:59:59.999999', '12:00:00+14', '294276-12-31 23:59:59.999999', '2026-10-25 02:30:00+02',
 '-178000000 years', '00000000-0000-0000-0000-000000000000', '{"b": 1, "a":  2, "b": 3}', '{"b": 1, "a": 2.50}',
 '<a b="1">é</a>', '::1/128', '10.0.0.0/8', '08:00:2b:01:02:03', '101', '', '(1e-300,-0)', '{1,2,3}', '[(0,0),(1,1)]',
 '(1,1),(0,0)', '[(0,0),(1,1)]', '((0,0),(1,1),(1,0))', '<(0,0),1>', 'a:1 b:2A', 'a & !b', '[1,5)',
 '[2026-01-01 00:00+00,infinity)', '(1.5,)', '{{1,2},{NULL,4}}', '{"a,b","NULL",NULL,"",\\}', 'sto''rm', '{calm,"sto''rm"}',
 1.10, ROW('mole, north', 3.50), ARRAY[ROW('a', 1)::place, ROW(NULL, NULL)::place], 4294967295, '16/B374D848', 'x', 'a name'),
(NULL, 0, 1.10, -0.0001, 1.17549435e-38, 'Infinity', '-92233720368547758.08', false, '', '', '', '', '', 'infinity',
 '00:00', '00:00:00-15:59', '-infinity', 'infinity', '0', NULL, 'null', 'null', '', '1.2.3.4', NULL, NULL, '000', '1', NULL, NULL,
 NULL, NULL, '((0,0),(1,1))', NULL, '<(0,0),0>', '', '', 'empty', NULL, 'empty', '{}', '{}', 'calm', '{}', 0, NULL, '{}', 0,
 '0/0', '', ''),
(-1, 1, 1e100, 99999999.9999, 16777217, 0.1, '0', NULL, '     ', repeat('x', 40), repeat('long ', 400000), NULL,
 decode(repeat('00ff', 200000), 'hex'), '5874897-12-31', NULL, NULL, '4714-11-24 00:00:00 BC', NULL, '1 mon -1 day 00:00:00.000001', NULL,
 '"\u0041"', '[]', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL,
 NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL);
CREATE TABLE "side.show"."Odd ""Name'" ("select" int PRIMARY KEY, "Ünïcode ⚓" text, " space " text DEFAULT 'it''s');
INSERT INTO "side.show"."Odd ""Name'" VALUES (1, 'a', 'b'), (2, NULL, NULL);
CREATE TABLE no_key (a int, b text);
INSERT INTO no_key VALUES (1, 'x'), (1, 'x'), (NULL, NULL);
CREATE TABLE hen (id int PRIMARY KEY, egg int);
CREATE TABLE egg (id int PRIMARY KEY, hen int REFERENCES hen (id) DEFERRABLE INITIALLY DEFERRED);
ALTER TABLE hen ADD CONSTRAINT hen_from_egg FOREIGN KEY (egg) REFERENCES egg (id) DEFERRABLE INITIALLY DEFERRED;
BEGIN;
INSERT INTO hen VALUES (1, 1);
INSERT INTO egg VALUES (1, 1);
COMMIT;
CREATE TABLE tides (day date NOT NULL, height int) PARTITION BY RANGE (day);
CREATE TABLE tides_2025 PARTITION OF tides FOR VALUES FROM ('2025-01-01') TO ('2026-01-01');
CREATE TABLE tides_rest PARTITION OF tides DEFAULT;
INSERT INTO tides VALUES ('2025-05-05', 1), ('2026-05-05', 2);
CREATE TABLE vessels (id int PRIMARY KEY, name text);
CREATE TABLE tugs (power int) INHERITS (vessels);
INSERT INTO vessels VALUES (1, 'a');
INSERT INTO tugs VALUES (2, 'b', 3);
CREATE UNLOGGED TABLE waves (n int);
INSERT INTO waves SELECT generate_series(1, 100);
CREATE VIEW calm_days AS SELECT id, a_mood FROM everything WHERE a_mood = 'calm' WITH CHECK OPTION;
CREATE MATERIALIZED VIEW totals AS SELECT count(*) AS n FROM everything;
CREATE INDEX partly ON everything (lower(a_varchar)) WHERE a_bool;
CREATE RULE no_waves AS ON DELETE TO waves DO INSTEAD NOTHING;
ALTER TABLE vessels ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_vessels ON vessels FOR SELECT USING (name = current_user);
COMMENT ON COLUMN everything.a_mood IS 'how the sea is, ''today''';
COMMENT ON FUNCTION fathoms_to_cm IS 'six feet each';
CREATE FUNCTION noted() RETURNS event_trigger LANGUAGE plpgsql AS 'BEGIN END';
CREATE EVENT TRIGGER on_every_change ON ddl_command_end EXECUTE FUNCTION noted();
ALTER DEFAULT PRIVILEGES IN SCHEMA "side.show" GRANT SELECT ON TABLES TO PUBLIC;
SELECT lo_from_bytea(424242, '\x00deadbeef'), lo_from_bytea(0, decode(repeat('ab', 300000), 'hex'));
