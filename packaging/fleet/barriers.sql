-- The directories that keep somebody out of most: their owner, mode and ACL, one of them, whom, and of how many entries.
WITH shut AS (
    SELECT j.volume, j.day, j.input, j.namespace, j.actor, j.mounted_at, j.barrier, SUM(j.entries) AS entries
    FROM judged j WHERE j.state = 'given' AND j.barrier IS NOT NULL AND (j.act = 'read' OR j.act = 'list')
    GROUP BY j.volume, j.day, j.input, j.namespace, j.actor, j.mounted_at, j.barrier
    ORDER BY entries DESC, j.volume, j.input, j.namespace, j.actor, j.mounted_at, j.barrier
    LIMIT 100)
SELECT /*+ BROADCAST(s), BROADCAST(c) */ s.volume, s.input, s.namespace, s.actor, s.mounted_at, c.uid AS owner, c.gid AS owning_group, c.mode, c.acl,
       s.entries, MIN(p.directory) AS directory, COUNT(*) AS directories
FROM shut s JOIN classes c ON c.class = s.barrier
JOIN placed p ON p.volume = s.volume AND p.day = s.day AND p.class = s.barrier
GROUP BY s.volume, s.input, s.namespace, s.actor, s.mounted_at, s.barrier, c.uid, c.gid, c.mode, c.acl, s.entries
ORDER BY entries DESC, s.volume, s.input, s.namespace, s.actor, s.mounted_at, directory;
