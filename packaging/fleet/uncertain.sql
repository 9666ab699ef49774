-- What rests on a missing fact, and who never runs or sees a part that no survey has: where the other answers are silent.
SELECT j.volume, j.input, j.namespace, j.actor, j.mounted_at, j.act, SUM(j.entries) AS entries, CAST(NULL AS VARCHAR(200)) AS reason
FROM judged j WHERE j.state = 'given' AND j.outcome = 'depends'
GROUP BY j.volume, j.input, j.namespace, j.actor, j.mounted_at, j.act
UNION ALL
SELECT a.volume, a.input, a.namespace, a.actor, a.mounted_at, '' AS act, 0 AS entries, a.reason
FROM actors a WHERE a.state = 'given' AND a.reason IS NOT NULL
ORDER BY volume, input, namespace, actor, mounted_at, act;
