SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
CREATE TABLE everything (
  id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  a_tiny TINYINT, a_small SMALLINT UNSIGNED, a_medium MEDIUMINT, a_big BIGINT, a_decimal DECIMAL(65, 30), a_float FLOAT,
  a_double DOUBLE, a_bit BIT(11), a_char CHAR(5), a_varchar VARCHAR(40), a_latin VARCHAR(40) CHARACTER SET latin1,
  a_binary BINARY(4), a_varbinary VARBINARY(40), a_tinytext TINYTEXT, a_text TEXT COLLATE utf8mb4_bin, a_longtext LONGTEXT,
  a_blob BLOB, a_longblob LONGBLOB, an_enum ENUM ('calm', 'rough', 'sto''rm'), a_set SET ('a', 'b', 'c'), a_date DATE,
  a_time TIME(6), a_datetime DATETIME(6), a_timestamp TIMESTAMP(6) NULL, a_year YEAR, a_json JSON, an_inet INET6, a_uuid UUID,
  a_point POINT, a_shape GEOMETRY, `odd``name ⚓` INT, `select` TEXT DEFAULT 'it''s', hidden INT INVISIBLE DEFAULT 7,
  stored INT AS (a_small * 2) STORED, virtual_one INT AS (a_tiny + 1) VIRTUAL
) CHARACTER SET utf8mb4;
INSERT INTO everything (
  a_tiny, a_small, a_medium, a_big, a_decimal, a_float, a_double, a_bit, a_char, a_varchar, a_latin, a_binary, a_varbinary,
  a_tinytext, a_text, a_longtext, a_blob, a_longblob, an_enum, a_set, a_date, a_time, a_datetime, a_timestamp, a_year, a_json,
  an_inet, a_uuid, a_point, a_shape, `odd``name ⚓`, hidden
) VALUES
(-128, 65535, -8388608, -9223372036854775808, 12345678901234567890123456789012345.123456789012345678901234567890, 16777217,
 -0e0, b'10000000001', 'ab', 'tab\tnew\nline\\', 'Käthe', 'a', X'00FF00', 'Käthe ⚓ 🛟', 'a ', REPEAT('long ', 400000),
 X'0000', REPEAT(X'00FF', 200000), 'sto''rm', 'a,c', '9999-12-31', '-838:59:59.999999', '9999-12-31 23:59:59.999999',
 '2038-01-19 03:14:07.999999', 2155, '{"b": 1, "a":  2, "b": 3}', '::1', '123e4567-e89b-12d3-a456-426655440000',
 ST_PointFromText('POINT(1 -0)'), ST_GeomFromText('POLYGON((0 0,0 1,1 1,0 0))'), 1, NULL),
(0, 0, 0, 0, 0, 1.2345678, 0.1, b'0', '', '', '', '', '', '', '', '', '', '', '', '', '0000-00-00', '00:00:00',
 '0000-00-00 00:00:00', '1970-01-01 00:00:01', 1901, '""', '::', '00000000-0000-0000-0000-000000000000', NULL, NULL, NULL, 0),
(127, 1, 1, 1, -0.000000000000000000000000000001, 3.402823466e38, 1.7976931348623157e308, b'11', 'é', 'a', 'ÿ', X'00', X'00',
 NULL, NULL, NULL, NULL, NULL, NULL, NULL, '2026-02-31', '00:00:00.000001', '2026-10-25 02:30:00', '2026-10-25 00:30:00.5', 0,
 'null', NULL, NULL, NULL, NULL, NULL, DEFAULT),
(NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL,
 NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
(5, 5, 5, 5, 5, 0.1, 5e-324, b'1', 'x', 'x', 'x', 'x', 'x', 'x', 'x', 'x', 'x', 'x', 'calm', 'b', '1000-01-01', '838:59:59',
 '1000-01-01 00:00:00', NULL, 2000, '[]', '1.2.3.4', NULL, NULL, NULL, 0, 1);
CREATE TABLE no_key (a INT, b TEXT);
INSERT INTO no_key VALUES (1, 'x'), (1, 'x'), (NULL, NULL);
SET foreign_key_checks = 0;
CREATE TABLE hen (id INT PRIMARY KEY, egg INT, FOREIGN KEY (egg) REFERENCES egg (id));
CREATE TABLE egg (id INT PRIMARY KEY, hen INT, FOREIGN KEY (hen) REFERENCES hen (id) ON DELETE CASCADE);
INSERT INTO hen VALUES (1, 1);
INSERT INTO egg VALUES (1, 1);
SET foreign_key_checks = 1;
CREATE TABLE tides (day DATE NOT NULL, height INT) PARTITION BY RANGE (YEAR(day))
 (PARTITION p2025 VALUES LESS THAN (2026), PARTITION later VALUES LESS THAN MAXVALUE);
INSERT INTO tides VALUES ('2025-05-05', 1), ('2026-05-05', 2);
CREATE TABLE searched (id INT PRIMARY KEY, words TEXT, FULLTEXT KEY (words));
INSERT INTO searched VALUES (1, 'fog horn'), (2, 'light ship');
CREATE TABLE old_engine (id INT PRIMARY KEY AUTO_INCREMENT, a VARCHAR(9)) ENGINE = MyISAM AUTO_INCREMENT = 100;
INSERT INTO old_engine (a) VALUES ('x'), ('y');
CREATE SEQUENCE buoys START WITH 7 INCREMENT BY 3;
SELECT NEXTVAL(buoys), NEXTVAL(buoys);
CREATE FUNCTION fathoms(cm INT) RETURNS DOUBLE DETERMINISTIC RETURN cm / 182.88;
DELIMITER //
CREATE PROCEDURE sweep(IN years INT)
BEGIN
  DECLARE n INT DEFAULT 0;
  WHILE n < years DO SET n = n + 1; END WHILE;
END //
CREATE TRIGGER upper_words BEFORE UPDATE ON searched FOR EACH ROW
BEGIN
  SET NEW.words = UPPER(NEW.words);
END //
CREATE TRIGGER no_float_change BEFORE UPDATE ON everything FOR EACH ROW
BEGIN
  SET NEW.a_varchar = 'touched';
END //
DELIMITER ;
CREATE VIEW in_fathoms AS SELECT id, fathoms(a_small) AS depth FROM everything;
CREATE VIEW above AS SELECT * FROM in_fathoms WHERE depth > 0 WITH CHECK OPTION;
CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2030-01-01 00:00:00' COMMENT 'sweeps' DO CALL sweep(3);
