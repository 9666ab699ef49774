-- Files that nobody but root can reach: some actor sees them, and none with another uid may read them, for certain.
SELECT f.volume, SUM(f.entries) AS files
FROM (
    SELECT j.volume, j.day, j.region, j.way, j.class, MAX(j.entries) AS entries,
           SUM(CASE WHEN j.outcome <> 'denied' AND (j.uid IS NULL OR j.uid <> 0) THEN 1 ELSE 0 END) AS others
    FROM judged j WHERE j.state = 'given' AND j.act = 'read'
    GROUP BY j.volume, j.day, j.region, j.way, j.class) f
JOIN classes c ON c.class = f.class
WHERE f.others = 0 AND c.kind = 'file'
GROUP BY f.volume ORDER BY f.volume;
