-- The price of a booking is its total, and says so.
ALTER TABLE bookings RENAME COLUMN price_cents TO total_cents;
UPDATE meta SET value = '30' WHERE name = 'schema';
