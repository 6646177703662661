-- Addresses leave the owners' table for one of their own.
CREATE TABLE addresses (
  id INTEGER PRIMARY KEY AUTO_INCREMENT,
  owner_id INTEGER NOT NULL,
  street VARCHAR(120),
  town VARCHAR(80),
  postcode VARCHAR(12),
  CONSTRAINT address_of_owner FOREIGN KEY (owner_id) REFERENCES owners (id)
);
INSERT INTO addresses (owner_id, street, town, postcode)
  SELECT id, street, town, postcode FROM owners ORDER BY id;
CREATE INDEX addresses_by_owner ON addresses (owner_id);
ALTER TABLE owners DROP COLUMN street;
ALTER TABLE owners DROP COLUMN town;
ALTER TABLE owners DROP COLUMN postcode;
