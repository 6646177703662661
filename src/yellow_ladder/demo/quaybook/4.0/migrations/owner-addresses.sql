-- Addresses leave the owners' table for one of their own.
CREATE TABLE addresses (
  id INTEGER PRIMARY KEY,
  owner_id INTEGER NOT NULL REFERENCES owners (id),
  street TEXT,
  town TEXT,
  postcode TEXT
);
INSERT INTO addresses (owner_id, street, town, postcode)
  SELECT id, street, town, postcode FROM owners ORDER BY id;
CREATE INDEX addresses_by_owner ON addresses (owner_id);
ALTER TABLE owners DROP COLUMN street;
ALTER TABLE owners DROP COLUMN town;
ALTER TABLE owners DROP COLUMN postcode;
