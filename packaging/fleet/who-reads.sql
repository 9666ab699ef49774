-- Who reads what under a path, for certain: `below` of the view `asked`. A count for each actor and mount, with one path of each.
SELECT o.input, o.namespace, o.actor, o.uid, o.gid, o.volume, o.mounted_at, COUNT(*) AS files, MIN(o.path) AS example
FROM outcomes o CROSS JOIN asked q
WHERE o.state = 'given' AND o.act = 'read' AND o.outcome = 'allowed' AND o.kind = 'file'
  AND (q.below = '/' OR o.path = q.below OR SUBSTRING(o.path, 1, LENGTH(q.below) + 1) = q.below || '/')
GROUP BY o.input, o.namespace, o.actor, o.uid, o.gid, o.volume, o.mounted_at
ORDER BY o.volume, o.input, o.namespace, o.actor, o.mounted_at;
