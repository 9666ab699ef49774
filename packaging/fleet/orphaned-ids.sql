-- Owners that no actor of the volume runs as, nor may run as where that depends; without a number, entries whose owner no survey knows. Ids are the
-- disk's; an actor with an id map runs as others there.
SELECT e.volume, c.uid AS owner, SUM(e.entries) AS entries
FROM latest e JOIN classes c ON c.class = e.class
WHERE c.uid IS NULL OR c.uid <> 0
  AND NOT EXISTS (SELECT 1 FROM actors a WHERE a.volume = e.volume AND a.state = 'given' AND a.uid = c.uid)
  AND NOT EXISTS (SELECT 1 FROM actors a WHERE a.volume = e.volume AND a.state = 'given' AND a.uid IS NULL)
GROUP BY e.volume, c.uid ORDER BY e.volume, owner;
