-- The twenty rules of benches/workspace: p passes, f fails, u unknown, n not applicable; one letter a rule, in their order.
CREATE OR REPLACE MACRO told(covered, met) AS
  CASE WHEN NOT covered THEN 'n' WHEN covered IS NULL OR met IS NULL THEN 'u' WHEN met THEN 'p' ELSE 'f' END;
CREATE OR REPLACE MACRO parts(version) AS list_transform(string_split(version, '.'), lambda part: part::INTEGER);
COPY (
  WITH read AS (
    SELECT *, TRY_CAST(lock.idle_minutes AS INTEGER) AS idle, parts(os.version) AS version,
           TIMESTAMP '2027-03-14 06:00:00' AS now
    FROM read_ndjson('FLEET', maximum_object_size = 16777216, columns = {
      device: 'VARCHAR', platform: 'VARCHAR', site: 'VARCHAR', ownership: 'VARCHAR',
      os: 'STRUCT(version VARCHAR, build VARCHAR)', agent: 'STRUCT(version VARCHAR, last_seen TIMESTAMP)',
      lock: 'STRUCT(idle_minutes JSON)', password: 'STRUCT(length INTEGER)', firewall: 'STRUCT(enabled BOOLEAN)',
      disks: 'STRUCT(writable BOOLEAN, encrypted BOOLEAN, size_bytes BIGINT)[]',
      software: 'STRUCT("name" VARCHAR)[]', processes: 'STRUCT("name" VARCHAR)[]' })
  )
  SELECT device,
    told(true, idle <= 15)
    || told(true, password.length BETWEEN 10 AND 64)
    || told(true, idle <= 15 AND password.length >= 8)
    || told(true, idle <= 5 OR firewall.enabled)
    || told(platform IN ('windows', 'macos', 'linux'), firewall.enabled)
    || told(true, len(list_filter(disks, lambda d: d.writable AND NOT d.encrypted)) = 0)
    || told(true, len(list_filter(disks, lambda d: d.size_bytes > 500000000000)) > 0)
    || told(true, len(disks) BETWEEN 1 AND 2)
    || told(ownership = 'company', len(list_filter(software, lambda s: s.name IN ('seedpool', 'peepcam'))) = 0)
    || told(true, len(list_filter(software, lambda s: s.name = 'seedpool' OR s.name = 'peepcam')) = 0)
    || told(platform NOT IN ('android', 'ios'), len(list_filter(processes, lambda p: p.name = 'guardd')) > 0)
    || told(true, version >= [12, 0])
    || told(true, CASE WHEN platform = 'macos' THEN version >= [13, 0] ELSE version >= [11, 5] END)
    || told(true, CASE WHEN agent.last_seen <= now THEN now - agent.last_seen <= INTERVAL 7 DAY END)
    || told(true, starts_with(agent.version, '5.2.') AND NOT ends_with(agent.version, '.3'))
    || told(true, length(os.build) >= 4 AND regexp_matches(os.build, '^[1-9]'))
    || told(true, contains(site, '-0') OR site IN ('site-10', 'site-11'))
    || told(ownership = 'company', lock.idle_minutes IS NOT NULL AND firewall.enabled IS NOT NULL)
    || told(true, idle + password.length * 2 < 50)
    || told(site IN ('site-01', 'site-02', 'site-03') AND platform = 'android', version >= [11, 0]) AS verdicts
  FROM read
) TO 'OUT' (FORMAT csv, HEADER false, DELIMITER ' ');
