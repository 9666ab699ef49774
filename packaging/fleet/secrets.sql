-- Files that look like secrets and that more actors can read, for certain, than `readers` of the view `asked`.
SELECT o.volume, o.path, COUNT(DISTINCT o.input || ' ' || o.namespace || ' ' || o.actor) AS actors
FROM outcomes o CROSS JOIN asked q
WHERE o.state = 'given' AND o.act = 'read' AND o.outcome = 'allowed' AND o.kind = 'file'
  AND (o.name LIKE '%.key' OR o.name LIKE '%.pem' OR o.name LIKE '%.p12' OR o.name IN ('.env', 'id_rsa', 'id_ed25519')
    OR o.name LIKE '%secret%' OR o.name LIKE '%token%' OR o.name LIKE '%password%' OR o.directory LIKE '%secret%')
GROUP BY o.volume, o.path, q.readers
HAVING COUNT(DISTINCT o.input || ' ' || o.namespace || ' ' || o.actor) > MAX(q.readers)
ORDER BY actors DESC, o.volume, o.path;
