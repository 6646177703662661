-- Where a booking came from, and how deep a boat goes.
ALTER TABLE bookings ADD COLUMN channel VARCHAR(20) NOT NULL DEFAULT 'counter';
ALTER TABLE boats ADD COLUMN draught_cm INTEGER;
CREATE INDEX bookings_by_channel ON bookings (channel);
UPDATE meta SET value = '26' WHERE name = 'schema';
