-- Volumes that are open to group 0, in which many containers are whoever they run as: how much it may write and read by the group's bits, and of how
-- much no survey knows group or mode.
SELECT e.volume,
       SUM(CASE WHEN c.gid = 0 AND c.mode % 32 >= 16 THEN e.entries ELSE 0 END) AS writes,
       SUM(CASE WHEN c.gid = 0 AND c.mode % 64 >= 32 THEN e.entries ELSE 0 END) AS reads,
       SUM(CASE WHEN c.gid IS NULL OR c.mode IS NULL THEN e.entries ELSE 0 END) AS unknown
FROM latest e JOIN classes c ON c.class = e.class
WHERE c.kind <> 'link' AND (c.gid IS NULL OR c.mode IS NULL OR c.gid = 0 AND c.mode % 64 >= 16)
GROUP BY e.volume ORDER BY e.volume;
