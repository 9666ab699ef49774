-- What rests on a missing fact, and who never runs or sees a part that no survey has: where the other answers are silent.
SELECT j.volume, j.actor, j.act, SUM(j.entries) AS entries, CAST(NULL AS VARCHAR(200)) AS reason
FROM judged j WHERE j.state = 'given' AND j.outcome = 'depends'
GROUP BY j.volume, j.actor, j.act
UNION ALL
SELECT a.volume, a.actor, '' AS act, 0 AS entries, a.reason
FROM actors a WHERE a.state = 'given' AND a.reason IS NOT NULL
ORDER BY volume, actor, act;
