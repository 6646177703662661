CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE owners (id INTEGER PRIMARY KEY, name TEXT NOT NULL, email TEXT NOT NULL, phone TEXT,
  street TEXT, town TEXT, postcode TEXT, payment_token TEXT);
CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT NOT NULL, registration TEXT NOT NULL UNIQUE,
  length_cm INTEGER NOT NULL, owner_id INTEGER NOT NULL REFERENCES owners (id));
CREATE TABLE berths (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, length_cm INTEGER NOT NULL, power_amps REAL);
CREATE TABLE bookings (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id),
  berth_id INTEGER NOT NULL REFERENCES berths (id), arrive TEXT NOT NULL, depart TEXT NOT NULL,
  state TEXT NOT NULL, price_cents INTEGER NOT NULL, remark TEXT);
CREATE TABLE invoices (id INTEGER PRIMARY KEY, booking_id INTEGER NOT NULL REFERENCES bookings (id),
  issued TEXT NOT NULL, amount_cents INTEGER NOT NULL, paid_on TEXT);
CREATE TABLE notices (id INTEGER PRIMARY KEY, posted TEXT NOT NULL, title TEXT NOT NULL, body TEXT NOT NULL);
CREATE TABLE documents (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id),
  kind TEXT NOT NULL, file TEXT NOT NULL, uploaded TEXT NOT NULL);
CREATE TABLE logins (id INTEGER PRIMARY KEY, owner_id INTEGER, seen TEXT);
CREATE INDEX bookings_by_arrival ON bookings (arrive);
CREATE VIEW unpaid AS SELECT id, booking_id, amount_cents FROM invoices WHERE paid_on IS NULL;
CREATE TRIGGER no_backward_stay BEFORE INSERT ON bookings WHEN new.depart < new.arrive
  BEGIN SELECT raise(ABORT, 'a stay cannot end before it begins'); END;
INSERT INTO meta VALUES ('schema', '24'), ('founded', '1911');
