-- What everybody may write, by volume: files, and directories without the sticky bit. `depends`: no survey knows their mode.
SELECT e.volume, c.kind, CASE WHEN c.mode IS NULL THEN 'depends' ELSE 'allowed' END AS outcome, SUM(e.entries) AS entries, MIN(e.seen_in) AS seen_in
FROM latest e JOIN classes c ON c.class = e.class
WHERE (c.mode IS NULL OR c.mode % 4 >= 2) AND (c.kind = 'file' OR (c.kind = 'dir' AND (c.mode IS NULL OR c.mode % 1024 < 512)))
GROUP BY e.volume, c.kind, CASE WHEN c.mode IS NULL THEN 'depends' ELSE 'allowed' END ORDER BY e.volume, c.kind, outcome;
