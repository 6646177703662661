UPDATE meta SET value = '40' WHERE name = 'schema';
