-- What opens and closes with a change (--change or --against), by volume, act and owner.
SELECT d.volume, c.uid AS owner, c.gid AS owning_group, d.act, d.input, d.namespace, d.actor, d.mounted_at, d.before_it, d.after_it,
       SUM(p.entries) AS entries
FROM (
    SELECT /*+ MERGE(v), MERGE(w) */ a.volume, a.date AS day, a.input, a.namespace, a.actor, a.mounted_at, v.region, v.way, v.class, v.act,
           v.outcome AS before_it, w.outcome AS after_it
    FROM actors a
    JOIN actors b ON b.part = a.part AND b.actor = a.actor AND b.namespace = a.namespace AND b.workload = a.workload
      AND b.mounted_at = a.mounted_at AND b.volume = a.volume AND b.date = a.date
    JOIN verdicts v ON v.verdicts_of = a.verdicts_of
    JOIN verdicts w ON w.verdicts_of = b.verdicts_of AND w.region = v.region AND w.way = v.way AND w.class = v.class AND w.act = v.act
    WHERE a.state = 'given' AND b.state = 'changed' AND a.verdicts_of <> b.verdicts_of AND v.outcome <> w.outcome) d
JOIN pairs p ON p.volume = d.volume AND p.day = d.day AND p.region = d.region AND p.way = d.way AND p.class = d.class
JOIN classes c ON c.class = d.class
GROUP BY d.volume, c.uid, c.gid, d.act, d.input, d.namespace, d.actor, d.mounted_at, d.before_it, d.after_it
ORDER BY d.volume, owner, owning_group, d.act, d.input, d.namespace, d.actor, d.mounted_at, d.before_it, d.after_it;
