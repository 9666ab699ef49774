-- What is different on each volume between two days: `first_day` and `last_day` of the view `asked`, or the last two.
WITH to_days AS (
    SELECT p.volume, COALESCE(MAX(CASE WHEN p.day = q.last_day THEN p.day END), MAX(p.day)) AS day
    FROM placed p CROSS JOIN asked q GROUP BY p.volume),
from_days AS (
    SELECT p.volume, COALESCE(MAX(CASE WHEN p.day = q.first_day THEN p.day END), MAX(CASE WHEN p.day < l.day THEN p.day END)) AS day
    FROM placed p JOIN to_days l ON l.volume = p.volume CROSS JOIN asked q GROUP BY p.volume),
then_there AS (SELECT p.* FROM placed p JOIN from_days f ON f.volume = p.volume AND f.day = p.day),
now_there AS (SELECT p.* FROM placed p JOIN to_days l ON l.volume = p.volume AND l.day = p.day
    JOIN from_days f ON f.volume = p.volume WHERE f.day IS NOT NULL)
SELECT volume, what, COUNT(*) AS entries, MIN(path) AS example FROM (
    SELECT n.volume, n.path, CASE WHEN t.path IS NULL THEN 'appeared' ELSE 'changed' END AS what
    FROM now_there n LEFT JOIN then_there t ON t.volume = n.volume AND t.path = n.path
    WHERE t.path IS NULL OR t.class <> n.class
    UNION ALL
    SELECT t.volume, t.path, 'gone' AS what
    FROM then_there t LEFT JOIN now_there n ON n.volume = t.volume AND n.path = t.path
    WHERE n.path IS NULL) d
GROUP BY volume, what ORDER BY volume, what;
