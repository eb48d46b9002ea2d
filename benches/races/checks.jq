# The twenty rules of benches/workspace: p passes, f fails, u unknown, n not applicable; one letter a rule, in their order.
def told(covered; met): if covered then (met | if . == null then "u" elif . then "p" else "f" end) else "n" end;
def both(a; b): if a == false or b == false then false elif a == null or b == null then null else true end;
def either(a; b): if a == true or b == true then true elif a == null or b == null then null else false end;
.device as $device
| (.lock.idle_minutes | if type == "number" then . else null end) as $idle
| .password.length as $length
| .firewall.enabled as $firewall
| (.os.version | split(".") | map(tonumber)) as $version
| ("2027-03-14T06:00:00Z" | fromdate) as $now
| (.agent.last_seen | fromdate) as $seen
| .platform as $platform | .site as $site
| (.ownership == "company") as $company
| (if $idle == null then null else $idle <= 15 end) as $soon
| [
    told(true; $soon),
    told(true; if $length == null then null else $length >= 10 and $length <= 64 end),
    told(true; both($soon; if $length == null then null else $length >= 8 end)),
    told(true; either(if $idle == null then null else $idle <= 5 end; $firewall)),
    told($platform == "windows" or $platform == "macos" or $platform == "linux"; $firewall),
    told(true; all(.disks[] | select(.writable); .encrypted)),
    told(true; any(.disks[]; .size_bytes > 500000000000)),
    told(true; (.disks | length) as $count | $count >= 1 and $count <= 2),
    told($company; any(.software[]; .name == "seedpool" or .name == "peepcam") | not),
    told(true; any(.software[]; .name == "seedpool" or .name == "peepcam") | not),
    told($platform != "android" and $platform != "ios"; any(.processes[]; .name == "guardd")),
    told(true; $version >= [12, 0]),
    told(true; if $platform == "macos" then $version >= [13, 0] else $version >= [11, 5] end),
    told(true; if $seen > $now then null else $now - $seen <= 604800 end),
    told(true; (.agent.version | startswith("5.2.")) and (.agent.version | endswith(".3") | not)),
    told(true; (.os.build | length) >= 4 and (.os.build | test("^[1-9]"))),
    told(true; ($site | contains("-0")) or $site == "site-10" or $site == "site-11"),
    told($company; .lock.idle_minutes != null and $firewall != null),
    told(true; if $idle == null or $length == null then null else $idle + $length * 2 < 50 end),
    told(($site == "site-01" or $site == "site-02" or $site == "site-03") and $platform == "android"; $version >= [11, 0])
  ]
| "\($device) \(add)"
