-- Files that nobody but root can reach: no actor with another uid may read them, for certain, and at least one sees them.
SELECT p.volume, COUNT(*) AS files, MIN(p.path) AS example
FROM in_regions p
WHERE p.kind = 'file'
  AND EXISTS (SELECT 1 FROM judged j WHERE j.volume = p.volume AND j.day = p.day AND j.region = p.region
    AND j.way = p.way AND j.class = p.class AND j.state = 'given' AND j.act = 'read')
  AND NOT EXISTS (SELECT 1 FROM judged j WHERE j.volume = p.volume AND j.day = p.day AND j.region = p.region
    AND j.way = p.way AND j.class = p.class AND j.state = 'given' AND j.act = 'read' AND j.outcome <> 'denied'
    AND (j.uid IS NULL OR j.uid <> 0))
GROUP BY p.volume ORDER BY p.volume;
