-- Views over the dataset and its verdicts, for every question here. docs/fleet.md tells how the six tables get their names in an engine:
-- entries, classes, ways (the dataset), actors, verdicts, regions (what `mivask verdicts` wrote).

-- What the questions ask for: change it to ask for something else.
CREATE OR REPLACE VIEW asked AS SELECT
    '/' AS below,                    -- who-reads: only what is at or below this path of a volume
    3 AS readers,                    -- secrets: readable by more actors than this
    '0000-00-00' AS first_day,       -- drift: from this day; the day before the last one if there is none such
    '9999-99-99' AS last_day;        -- drift: to this day; the last one if there is none such

-- Every entry with its path from the root of the volume.
CREATE OR REPLACE VIEW placed AS SELECT
    volume, CAST(date AS VARCHAR(10)) AS day, directory, name, kind, size, class, way, inode, target,
    CASE WHEN name = '' THEN directory WHEN directory = '/' THEN '/' || name ELSE directory || '/' || name END AS path
FROM entries;

-- The days of each volume: each has one root, to which there is no way.
CREATE OR REPLACE VIEW days AS SELECT volume, CAST(date AS VARCHAR(10)) AS day FROM entries WHERE way = 0;
CREATE OR REPLACE VIEW last_days AS SELECT volume, MAX(day) AS day FROM days GROUP BY volume;

-- How many entries there are of each class at the end of each way, on each day: what most questions count. Rows are counted before anything is joined, so
-- that engines read two columns once and join little.
CREATE OR REPLACE VIEW counted AS
SELECT volume, CAST(date AS VARCHAR(10)) AS day, way, class, entries
FROM (SELECT volume, date, way, class, COUNT(*) AS entries FROM entries GROUP BY volume, date, way, class) c;

-- The same of the last day of each volume: what questions without actors are about.
CREATE OR REPLACE VIEW latest AS SELECT c.* FROM counted c JOIN last_days l ON l.volume = c.volume AND l.day = c.day;

-- Volumes with paths that a subPath shows or something else is mounted on; most have none, and their entries are all in the region `/`.
CREATE OR REPLACE VIEW divided AS SELECT DISTINCT volume, date AS day FROM regions WHERE region <> '/';
CREATE OR REPLACE VIEW undivided AS SELECT r.volume, r.date AS day FROM regions r
WHERE NOT EXISTS (SELECT 1 FROM divided d WHERE d.volume = r.volume AND d.day = r.date);

-- Entries of divided volumes with the region that each is in: the nearest around it. BROADCAST is a word for Spark, a comment to others: send the small
-- table to the rows, not the rows to the table.
CREATE OR REPLACE VIEW in_divided AS SELECT /*+ BROADCAST(r), BROADCAST(d) */ p.*, r.region
FROM placed p JOIN regions r ON r.volume = p.volume AND r.date = p.day
JOIN divided d ON d.volume = p.volume AND d.day = p.day
WHERE (r.region = '/' OR p.path = r.region OR SUBSTRING(p.path, 1, LENGTH(r.region) + 1) = r.region || '/')
  AND NOT EXISTS (
    SELECT 1 FROM regions i
    WHERE i.volume = p.volume AND i.date = p.day AND i.around = r.region
      AND (p.path = i.region OR SUBSTRING(p.path, 1, LENGTH(i.region) + 1) = i.region || '/'));

-- All entries with their region.
CREATE OR REPLACE VIEW in_regions AS
SELECT /*+ BROADCAST(u) */ p.*, '/' AS region FROM placed p JOIN undivided u ON u.volume = p.volume AND u.day = p.day
UNION ALL SELECT * FROM in_divided;

-- Pairs of class and way with their region, counted.
CREATE OR REPLACE VIEW pairs AS
SELECT c.volume, c.day, '/' AS region, c.way, c.class, c.entries
FROM counted c JOIN undivided u ON u.volume = c.volume AND u.day = c.day
UNION ALL
SELECT volume, day, region, way, class, COUNT(*) AS entries
FROM in_divided GROUP BY volume, day, region, way, class;

-- What every actor can do to each of these pairs. MERGE is another word for Spark: verdicts are a small file and millions of rows, too many to be sent whole.
CREATE OR REPLACE VIEW judged AS SELECT /*+ MERGE(v) */
    a.state, a.part, a.input, a.namespace, a.workload, a.actor, a.uid, a.gid, a.mounted_at, a.shows,
    p.volume, p.day, p.region, p.way, p.class, p.entries, v.act, v.outcome, v.errno, v.decided_by, v.barrier
FROM actors a
JOIN verdicts v ON v.verdicts_of = a.verdicts_of
JOIN pairs p ON p.volume = a.volume AND p.day = a.date AND p.region = v.region AND p.way = v.way AND p.class = v.class;

-- What every actor can do to every entry: a row for each, so ask for a part of it. `inside` is the path as the actor sees it.
CREATE OR REPLACE VIEW outcomes AS SELECT /*+ MERGE(v) */
    a.state, a.part, a.input, a.namespace, a.workload, a.actor, a.uid, a.gid, a.mounted_at, a.shows,
    p.volume, p.day, p.path, p.directory, p.name, p.kind, p.size, p.way, p.class, v.act, v.outcome, v.errno, v.decided_by, v.barrier,
    CASE WHEN p.path = a.shows THEN a.mounted_at
         WHEN a.shows = '/' THEN a.mounted_at || p.path
         ELSE a.mounted_at || SUBSTRING(p.path, LENGTH(a.shows) + 1, LENGTH(p.path)) END AS inside
FROM actors a
JOIN verdicts v ON v.verdicts_of = a.verdicts_of
JOIN in_regions p ON p.volume = a.volume AND p.day = a.date AND p.region = v.region AND p.way = v.way AND p.class = v.class;
