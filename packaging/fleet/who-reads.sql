-- Who reads what under a path, for certain: `below` of the view `asked`. A count for each actor and mount.
WITH found AS (
    SELECT p.volume, p.day, p.region, p.way, p.class, COUNT(*) AS files
    FROM in_regions p CROSS JOIN asked q
    WHERE p.kind = 'file' AND (q.below = '/' OR p.path = q.below OR SUBSTRING(p.path, 1, LENGTH(q.below) + 1) = q.below || '/')
    GROUP BY p.volume, p.day, p.region, p.way, p.class)
SELECT /*+ MERGE(v) */ a.input, a.namespace, a.actor, a.uid, a.gid, a.volume, a.mounted_at, SUM(f.files) AS files
FROM actors a
JOIN verdicts v ON v.verdicts_of = a.verdicts_of
JOIN found f ON f.volume = a.volume AND f.day = a.date AND f.region = v.region AND f.way = v.way AND f.class = v.class
WHERE a.state = 'given' AND v.act = 'read' AND v.outcome = 'allowed'
GROUP BY a.input, a.namespace, a.actor, a.uid, a.gid, a.volume, a.mounted_at
ORDER BY a.volume, a.input, a.namespace, a.actor, a.mounted_at;
