-- Owners that no actor of the volume runs as, nor may run as where that depends; without a number, entries whose owner no survey knows. Ids are the
-- disk's; an actor with an id map runs as others there.
WITH owned AS (
    SELECT e.volume, c.uid, SUM(e.entries) AS entries FROM latest e JOIN classes c ON c.class = e.class GROUP BY e.volume, c.uid),
runs_as AS (SELECT DISTINCT volume, uid FROM actors WHERE state = 'given')
SELECT o.volume, o.uid AS owner, o.entries
FROM owned o
LEFT JOIN runs_as r ON r.volume = o.volume AND r.uid = o.uid
LEFT JOIN runs_as u ON u.volume = o.volume AND u.uid IS NULL
WHERE o.uid IS NULL OR o.uid <> 0 AND r.volume IS NULL AND u.volume IS NULL
ORDER BY o.volume, owner;
