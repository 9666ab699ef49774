-- What is different on each volume between two days: `first_day` and `last_day` of the view `asked`, or the last two.
WITH to_days AS (
    SELECT d.volume, COALESCE(MAX(CASE WHEN d.day = q.last_day THEN d.day END), MAX(d.day)) AS day
    FROM days d CROSS JOIN asked q GROUP BY d.volume),
compared AS (
    SELECT d.volume, COALESCE(MAX(CASE WHEN d.day = q.first_day THEN d.day END), MAX(CASE WHEN d.day < l.day THEN d.day END)) AS first_day, MAX(l.day) AS last_day
    FROM days d JOIN to_days l ON l.volume = d.volume CROSS JOIN asked q GROUP BY d.volume),
rows_of_both AS (
    SELECT /*+ BROADCAST(b) */ p.volume, p.path,
           CASE WHEN p.day = b.first_day THEN p.class END AS then_class, CASE WHEN p.day = b.last_day THEN p.class END AS now_class
    FROM placed p JOIN compared b ON b.volume = p.volume AND (p.day = b.first_day OR p.day = b.last_day)
    WHERE b.first_day IS NOT NULL),
paths AS (
    SELECT volume, path, MAX(then_class) AS then_class, MAX(now_class) AS now_class
    FROM rows_of_both GROUP BY volume, path)
SELECT volume, what, COUNT(*) AS entries, MIN(path) AS example FROM (
    SELECT volume, path, CASE WHEN then_class IS NULL THEN 'appeared' WHEN now_class IS NULL THEN 'gone' ELSE 'changed' END AS what
    FROM paths WHERE then_class IS NULL OR now_class IS NULL OR then_class <> now_class) d
GROUP BY volume, what ORDER BY volume, what;
