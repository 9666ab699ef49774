-- Files that look like secrets and that more actors can read than `readers` of the view `asked`.
SELECT o.volume, o.path, COUNT(DISTINCT o.actor) AS actors
FROM outcomes o CROSS JOIN asked q
WHERE o.state = 'given' AND o.act = 'read' AND o.outcome = 'allowed' AND o.kind = 'file'
  AND (o.path LIKE '%.key' OR o.path LIKE '%.pem' OR o.path LIKE '%.p12' OR o.path LIKE '%/.env' OR o.path LIKE '%/id_rsa'
    OR o.path LIKE '%/id_ed25519' OR o.path LIKE '%secret%' OR o.path LIKE '%token%' OR o.path LIKE '%password%')
GROUP BY o.volume, o.path, q.readers
HAVING COUNT(DISTINCT o.actor) > MAX(q.readers)
ORDER BY actors DESC, o.volume, o.path;
