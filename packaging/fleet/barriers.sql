-- The directories that keep somebody out of most: their owner and mode, whom, and of how many entries.
SELECT j.volume, j.input, j.namespace, j.actor, j.mounted_at, c.uid AS owner, c.gid AS owning_group, c.mode,
       SUM(j.entries) AS entries, MIN(j.seen_in) AS seen_in
FROM judged j JOIN classes c ON c.class = j.barrier
WHERE j.state = 'given' AND (j.act = 'read' OR j.act = 'list')
GROUP BY j.volume, j.input, j.namespace, j.actor, j.mounted_at, c.uid, c.gid, c.mode
ORDER BY entries DESC, j.volume, j.input, j.namespace, j.actor, j.mounted_at, owner, owning_group, c.mode
LIMIT 100;
