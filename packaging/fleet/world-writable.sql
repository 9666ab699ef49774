-- What everybody may write, by volume: files, and directories without the sticky bit. `depends`: no survey knows their mode.
SELECT /*+ BROADCAST(c), BROADCAST(l) */ e.volume, c.kind, CASE WHEN c.mode IS NULL THEN 'depends' ELSE 'allowed' END AS outcome, COUNT(*) AS entries,
       MIN(e.directory) AS seen_in
FROM placed e JOIN classes c ON c.class = e.class
JOIN last_days l ON l.volume = e.volume AND l.day = e.day
WHERE (c.mode IS NULL OR c.mode % 4 >= 2) AND (c.kind = 'file' OR (c.kind = 'dir' AND (c.mode IS NULL OR c.mode % 1024 < 512)))
GROUP BY e.volume, c.kind, CASE WHEN c.mode IS NULL THEN 'depends' ELSE 'allowed' END ORDER BY e.volume, c.kind, outcome;
