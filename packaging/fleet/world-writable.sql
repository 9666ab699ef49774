-- What everybody may write, by volume: files, and directories without the sticky bit. `depends`: no survey knows their mode.
SELECT e.volume, e.kind, CASE WHEN c.mode IS NULL THEN 'depends' ELSE 'allowed' END AS outcome, COUNT(*) AS entries, MIN(e.path) AS example
FROM latest e JOIN classes c ON c.class = e.class
WHERE (c.mode IS NULL OR c.mode % 4 >= 2) AND (e.kind = 'file' OR (e.kind = 'dir' AND (c.mode IS NULL OR c.mode % 1024 < 512)))
GROUP BY e.volume, e.kind, CASE WHEN c.mode IS NULL THEN 'depends' ELSE 'allowed' END ORDER BY e.volume, e.kind, outcome;
