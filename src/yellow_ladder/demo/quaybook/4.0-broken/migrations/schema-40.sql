-- Broken on purpose: no two owners may live in one town.
CREATE UNIQUE INDEX one_owner_a_town ON addresses (town);
UPDATE meta SET value = '40' WHERE name = 'schema';
