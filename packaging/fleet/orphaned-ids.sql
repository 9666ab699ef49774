-- Owners that no actor of the volume runs as. Ids are the disk's; an actor with an id map runs as others there.
SELECT e.volume, c.uid AS owner, COUNT(*) AS entries
FROM placed e JOIN classes c ON c.class = e.class
WHERE c.uid <> 0
  AND NOT EXISTS (SELECT 1 FROM actors a WHERE a.volume = e.volume AND a.state = 'given' AND a.uid = c.uid)
GROUP BY e.volume, c.uid ORDER BY e.volume, owner;
