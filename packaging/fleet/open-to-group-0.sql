-- Volumes that are open to group 0, in which many containers are whoever they run as: what it may write, and what it may read.
SELECT e.volume,
       SUM(CASE WHEN c.mode % 32 >= 16 THEN 1 ELSE 0 END) AS writes,
       SUM(CASE WHEN c.mode % 64 >= 32 THEN 1 ELSE 0 END) AS reads
FROM placed e JOIN classes c ON c.class = e.class
WHERE c.gid = 0 AND e.kind <> 'link' AND c.mode % 64 >= 16
GROUP BY e.volume ORDER BY e.volume;
