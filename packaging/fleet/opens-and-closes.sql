-- What opens and closes with a change (--change or --against), by volume, act and owner.
SELECT b.volume, c.uid AS owner, c.gid AS owning_group, b.act, b.actor,
       b.outcome AS before_it, n.outcome AS after_it, SUM(b.entries) AS entries, MIN(b.example) AS example
FROM judged b
JOIN judged n ON n.actor = b.actor AND n.namespace = b.namespace AND n.workload = b.workload AND n.mounted_at = b.mounted_at
  AND n.volume = b.volume AND n.day = b.day AND n.region = b.region AND n.way = b.way AND n.class = b.class AND n.act = b.act
JOIN classes c ON c.class = b.class
WHERE b.state = 'given' AND n.state = 'changed' AND b.outcome <> n.outcome
GROUP BY b.volume, c.uid, c.gid, b.act, b.actor, b.outcome, n.outcome
ORDER BY b.volume, owner, owning_group, b.act, b.actor, before_it, after_it;
