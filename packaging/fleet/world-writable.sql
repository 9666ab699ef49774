-- What everybody may write, by volume: files, and directories without the sticky bit.
SELECT e.volume, e.kind, COUNT(*) AS entries, MIN(e.path) AS example
FROM placed e JOIN classes c ON c.class = e.class
WHERE c.mode % 4 >= 2 AND (e.kind = 'file' OR (e.kind = 'dir' AND c.mode % 1024 < 512))
GROUP BY e.volume, e.kind ORDER BY e.volume, e.kind;
