//! What people read of the demo, whole, on three of its days.

use crate::env::{shown_by_the_demo, shown_by_the_demo_in};

#[test]
fn list_facts() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "facts", "--as-of", "2027-03-05"]), @r"
    $ fencepost list facts --as-of 2027-03-05
    FACT                     DECLARED  SEEN AS     SHARE  DISTINCT  COMMONEST                         OF VALUES  WRONG  UNIT
    agent.last_seen          instant   text         49 %        70  2027-03-03T20:03:00Z                    3 %
    agent.version                      text         49 %         3  5.2.2                                  35 %
    certificate.not_after    instant   text         14 %         7  2028-06-01T12:00:00Z                   52 %
    charts.edition           date      text          8 %         2  2027-02-01                             92 %
    data.allowance_mb        number    number       14 %         1  10000                                 100 %         MB
    data.used_mb             number    number       14 %         2  2310                                   95 %         MB
    disk.encrypted           boolean   boolean      58 %         2  true                                   98 %
    disk.encryption_pending  boolean   boolean      21 %         1  false                                 100 %
    disk.free_bytes          number    number      100 %        91  10500000000                             4 %         B
    disks                    list      list         21 %         3  [{mount: C:, writable: true,           73 %
                                                                    encrypted:…
    disks.encrypted                    boolean      21 %         2  false                                  50 %
    disks.mount                        text         21 %         4  C:                                     38 %
    disks.writable                     boolean      21 %         2  false                                  50 %
    firewall.enabled         boolean   boolean      21 %         2  true                                   93 %
    lock.idle_minutes        number    number       79 %         4  5                                      64 %         min
    log.level                          text          6 %         1  info                                  100 %
    log.retention_days       number    number        6 %         2  35                                     89 %         d
    model                    text      text         59 %         3  Crew phone                             63 %
    net.address              text      null          0 %         0
    os.name                            text         49 %         4  linux                                  42 %
    os.version               version   text        100 %         6  13.0                                   47 %
    ownership                text      text        100 %         2  company                                61 %
    password.length          number    number       21 %         1  12                                    100 %
    person                             text, list   66 %        81  B-1001                                  2 %
    platform                 text      text        100 %         5  android                                47 %
    processes                list      list         21 %         3  [{name: soundings, user:               67 %
                                                                    system}, {name…
    processes.name                     text         21 %         6  guardd                                 30 %
    processes.user                     text         21 %         1  system                                100 %
    queue.workers            number    number        6 %         2  8                                      89 %
    radio.power                        text         14 %         2  full                                   60 %
    radio.version            text      text         14 %         2  R3                                     60 %
    role                     text      text        100 %         6  crew-phone                             37 %
    scan.median_ms           number    null          0 %         0                                                      ms
    security.rooted          boolean   boolean      59 %         2  false                                  99 %
    site                     text      text        100 %        10  Fulmar                                 12 %
    software                 list      list         21 %         2  [{name: ebbnote, version:              67 %
                                                                    3.4.0}, {name…
    software.name                      text         21 %         4  ebbnote                                30 %
    software.version         version   text         21 %         4  2.0                                    30 %
    sshd.permit_root_login   text      text          6 %         2  no                                     89 %
    sshd.port                          number        6 %         1  22                                    100 %
    ------- standard error -------

    40 facts, as of Fri 5 Mar 2027 00:00; left out for want of room: about (--columns shows them)

    Next: fencepost list devices --by agent.last_seen
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "facts", "--as-of", "2027-03-10"]), @r"
    $ fencepost list facts --as-of 2027-03-10
    FACT                     DECLARED  SEEN AS     SHARE  DISTINCT  COMMONEST                         OF VALUES  WRONG  UNIT
    agent.last_seen          instant   text         49 %        71  2027-03-08T22:24:00Z                    3 %
    agent.version                      text         49 %         3  5.2.2                                  35 %
    certificate.not_after    instant   text         14 %         7  2028-06-01T12:00:00Z                   52 %
    charts.edition           date      text          8 %         2  2027-02-01                             92 %
    data.allowance_mb        number    number       14 %         1  10000                                 100 %         MB
    data.used_mb             number    number       14 %         2  2310                                   95 %         MB
    disk.encrypted           boolean   boolean      58 %         2  true                                   98 %
    disk.encryption_pending  boolean   boolean      21 %         2  false                                  97 %
    disk.free_bytes          number    number      100 %        93  10500000000                             4 %         B
    disks                    list      list         21 %         4  [{mount: C:, writable: true,           70 %
                                                                    encrypted:…
    disks.encrypted                    boolean      21 %         2  false                                  52 %
    disks.mount                        text         21 %         4  C:                                     38 %
    disks.writable                     boolean      21 %         2  false                                  50 %
    firewall.enabled         boolean   boolean      21 %         2  true                                   93 %
    lock.idle_minutes        number    number       79 %         4  5                                      64 %         min
    log.level                          text          6 %         1  info                                  100 %
    log.retention_days       number    number        6 %         2  35                                     89 %         d
    model                    text      text         59 %         3  Crew phone                             63 %
    net.address              text      null          0 %         0
    os.name                            text         49 %         4  linux                                  42 %
    os.version               version   text        100 %         6  13.0                                   47 %
    ownership                text      text        100 %         2  company                                61 %
    password.length          number    number       21 %         1  12                                    100 %
    person                             text, list   66 %        81  B-1001                                  2 %
    platform                 text      text        100 %         5  android                                47 %
    processes                list      list         21 %         3  [{name: soundings, user:               63 %
                                                                    system}, {name…
    processes.name                     text         21 %         6  guardd                                 29 %
    processes.user                     text         21 %         1  system                                100 %
    queue.workers            number    number        6 %         2  8                                      89 %
    radio.power                        text         14 %         2  full                                   60 %
    radio.version            text      text         14 %         2  R3                                     60 %
    role                     text      text        100 %         6  crew-phone                             37 %
    scan.median_ms           number    null          0 %         0                                                      ms
    security.rooted          boolean   boolean      59 %         2  false                                  99 %
    site                     text      text        100 %        10  Fulmar                                 12 %
    software                 list      list         21 %         4  [{name: ebbnote, version:              63 %
                                                                    3.4.0}, {name…
    software.name                      text         21 %         6  ebbnote                                29 %
    software.version         version   text         21 %         5  2.0                                    29 %
    sshd.permit_root_login   text      text          6 %         2  no                                     89 %
    sshd.port                          number        6 %         1  22                                    100 %
    ------- standard error -------

    40 facts, as of Wed 10 Mar 2027 00:00; left out for want of room: about (--columns shows them)

    Next: fencepost list devices --by agent.last_seen
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "facts", "--as-of", "2027-03-14"]), @r"
    $ fencepost list facts --as-of 2027-03-14
    FACT                     DECLARED  SEEN AS       SHARE  DISTINCT  COMMONEST                       OF VALUES  WRONG  UNIT
    agent.last_seen          instant   text           49 %        64  2027-03-12T21:59:00Z                  4 %
    agent.version                      text           49 %         3  5.2.2                                35 %
    certificate.not_after    instant   text           14 %         7  2028-06-01T12:00:00Z                 52 %
    charts.edition           date      text            8 %         2  2027-02-01                           92 %
    data.allowance_mb        number    number         14 %         1  10000                               100 %         MB
    data.used_mb             number    number         14 %         2  2310                                 95 %         MB
    disk.encrypted           boolean   boolean        58 %         2  true                                 98 %
    disk.encryption_pending  boolean   boolean        21 %         2  false                                97 %
    disk.free_bytes          number    number        100 %        88  10500000000                           4 %         B
    disks                    list      list           21 %         4  [{mount: C:, writable: true,         70 %
                                                                      encrypted:…
    disks.encrypted                    boolean        21 %         2  false                                52 %
    disks.mount                        text           21 %         4  C:                                   38 %
    disks.writable                     boolean        21 %         2  false                                50 %
    firewall.enabled         boolean   boolean        21 %         2  true                                 93 %
    lock.idle_minutes        number    number         79 %         4  5                                    64 %         min
    log.level                          text            6 %         1  info                                100 %
    log.retention_days       number    number          6 %         2  35                                   89 %         d
    model                    text      text           59 %         3  Crew phone                           63 %
    net.address              text      null, text      2 %         3  192.0.2.137                          33 %
    os.name                            text           49 %         4  linux                                42 %
    os.version               version   text          100 %         6  13.0                                 47 %
    ownership                text      text          100 %         2  company                              61 %
    password.length          number    number, text   21 %         2  12                                   97 %      1
    person                             text, list     66 %        81  B-1001                                2 %
    platform                 text      text          100 %         5  android                              47 %
    processes                list      list           21 %         3  [{name: soundings, user:             63 %
                                                                      system}, {name…
    processes.name                     text           21 %         6  guardd                               29 %
    processes.user                     text           21 %         1  system                              100 %
    queue.workers            number    number          6 %         2  8                                    89 %
    radio.power                        text           14 %         2  full                                 60 %
    radio.version            text      text           14 %         2  R3                                   60 %
    role                     text      text          100 %         6  crew-phone                           37 %
    scan.median_ms           number    null            0 %         0                                                    ms
    security.rooted          boolean   boolean        59 %         2  false                                99 %
    site                     text      text          100 %        10  Fulmar                               12 %
    software                 list      list           21 %         3  [{name: ebbnote, version:            67 %
                                                                      3.4.0}, {name…
    software.name                      text           21 %         5  ebbnote                              30 %
    software.version         version   text           21 %         5  2.0                                  30 %
    sshd.permit_root_login   text      text            6 %         2  no                                   89 %
    sshd.port                          number          6 %         1  22                                  100 %
    ------- standard error -------

    40 facts, as of Sun 14 Mar 2027 00:00; left out for want of room: about (--columns shows them)

    Next: fencepost list devices --by agent.last_seen
    ");
}

#[test]
fn list_rules() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rules", "--as-of", "2027-03-05"]), @r"
    $ fencepost list rules --as-of 2027-03-05
    RULE                                  SEVERITY  STAGE     GRACE  REACH  PASS  FAIL  UNKNOWN  WAIVED  SHARE  CHANGED
    handheld-encrypted                    high      enforced  3d        81    80     0        1       0   99 %  Mon 07:00
    not-rooted                            critical  enforced  0         86    85     1        0       0   99 %  Mon 07:00
    android-supported                     high      enforced  5d        69    68     1        0       0   99 %  Mon 07:00
    phone-lock                            medium    enforced  7d        74    74     0        0       0  100 %  Mon 07:00
    bridge-lock                           medium    enforced  7d        12     0    12        0      12  100 %  Mon 07:00
    charts-current                        high      enforced  12d       12    11     1        0       0   92 %  Mon 07:00
    watch-lock                            low       draft     14d                                               Mon 07:00
    disk-encrypted                        high      enforced  3d        30    30     0        0       0  100 %  Mon 07:00
    laptop-lock                           medium    enforced  7d        30    29     1        0       0   97 %  Mon 07:00
    laptop-supported                      high      enforced  5d        30    30     0        0       0  100 %  Mon 07:00
    firewall-on                           medium    trial     7d        30    28     2        0       0   93 %  Mon 07:00
    certificate-valid                     high      enforced  3d         9     9     0        0       0  100 %  Mon 07:00
    agent-recent                          low       enforced  3d        60    60     0        0       0  100 %  Mon 07:00
    kiosk/disk.free_bytes                 low       enforced  7d        20    20     0        0       0  100 %  Mon 07:00
    kiosk/processes.guardd                high      enforced  5d        20    19     1        0       0   95 %  Mon 07:00
    kiosk/processes.soundings             medium    enforced  5d        20    20     0        0       0  100 %  Mon 07:00
    kiosk/processes                       medium    trial     5d        20    20     0        0       0  100 %  Mon 07:00
    laptop/software.seedpool              medium    enforced  4d        30    30     0        0       0  100 %  Mon 07:00
    laptop/software.peepcam               medium    enforced  4d        30    30     0        0       0  100 %  Mon 07:00
    laptop/software.hullplan              medium    enforced  4d        30    30     0        0       0  100 %  Mon 07:00
    ticket-server/processes.guardd        high      enforced  6d         9     9     0        0       0  100 %  Mon 07:00
    ticket-server/sshd.permit_root_login  high      enforced  6d         9     8     1        0       0   89 %  Mon 07:00
    ticket-server/log.retention_days      high      enforced  6d         9     8     1        0       0   89 %  Mon 07:00
    ticket-server/queue.workers           high      trial     6d         9     8     1        0       0   89 %  Mon 07:00
    ticket-server/processes.ticketd       high      enforced  6d         9     9     0        0       0  100 %  Mon 07:00
    drift/ticket-servers                  low       trial     14d        9     7     2        0       0   78 %  Mon 07:00
    ------- standard error -------

    26 rules, as of Fri 5 Mar 2027 00:00; left out for want of room: title (--columns shows them)

    Next: fencepost show bridge-lock
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rules", "--as-of", "2027-03-10"]), @r"
    $ fencepost list rules --as-of 2027-03-10
    RULE                                  SEVERITY  STAGE     GRACE  REACH  PASS  FAIL  UNKNOWN  WAIVED  SHARE
    handheld-encrypted                    high      enforced  3d        81    80     0        1       0   99 %
    not-rooted                            critical  enforced  0         86    85     1        0       0   99 %
    android-supported                     high      enforced  5d        69    68     1        0       0   99 %
    phone-lock                            medium    enforced  7d        74    74     0        0       0  100 %
    bridge-lock                           medium    enforced  7d        12    10     2        0       2  100 %
    charts-current                        high      enforced  12d       12    11     1        0       0   92 %
    watch-lock                            low       draft     14d
    disk-encrypted                        high      enforced  3d        30    29     1        0       0   97 %
    laptop-lock                           medium    enforced  7d        30    29     1        0       0   97 %
    laptop-supported                      high      enforced  5d        30    30     0        0       0  100 %
    firewall-on                           medium    trial     7d        30    28     2        0       0   93 %
    certificate-valid                     high      enforced  3d         9     8     0        1       0   89 %
    agent-recent                          low       enforced  3d        60    60     0        0       0  100 %
    kiosk/disk.free_bytes                 low       enforced  7d        20    18     0        2       0   90 %
    kiosk/processes.guardd                high      enforced  5d        20    17     1        2       0   85 %
    kiosk/processes.soundings             medium    enforced  5d        20    18     0        2       0   90 %
    kiosk/processes                       medium    trial     5d        20    18     0        2       0   90 %
    laptop/software.seedpool              medium    enforced  4d        30    29     1        0       0   97 %
    laptop/software.peepcam               medium    enforced  4d        30    29     1        0       0   97 %
    laptop/software.hullplan              medium    enforced  4d        30    30     0        0       0  100 %
    ticket-server/processes.guardd        high      enforced  6d         9     8     0        1       0   89 %
    ticket-server/sshd.permit_root_login  high      enforced  6d         9     7     1        1       0   78 %
    ticket-server/log.retention_days      high      enforced  6d         9     7     1        1       0   78 %
    ticket-server/queue.workers           high      trial     6d         9     7     1        1       0   78 %
    ticket-server/processes.ticketd       high      enforced  6d         9     8     0        1       0   89 %
    drift/ticket-servers                  low       trial     14d        9     6     2        1       0   67 %
    ------- standard error -------

    26 rules, as of Wed 10 Mar 2027 00:00; left out for want of room: title, changed (--columns shows them)

    Next: fencepost show bridge-lock
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rules", "--as-of", "2027-03-14"]), @r"
    $ fencepost list rules --as-of 2027-03-14
    RULE                                  SEVERITY  STAGE     GRACE  REACH  PASS  FAIL  UNKNOWN  WAIVED  SHARE
    handheld-encrypted                    high      enforced  3d        81    80     0        1       0   99 %
    not-rooted                            critical  enforced  0         86    85     1        0       0   99 %
    android-supported                     high      enforced  5d        69    68     1        0       1  100 %
    phone-lock                            medium    enforced  7d        74    74     0        0       0  100 %
    bridge-lock                           medium    enforced  7d        12    10     2        0       2  100 %
    charts-current                        high      enforced  12d       12    11     1        0       0   92 %
    watch-lock                            low       draft     14d
    disk-encrypted                        high      enforced  3d        30    29     1        0       0   97 %
    laptop-lock                           medium    enforced  7d        30    28     1        1       0   93 %
    laptop-supported                      high      enforced  5d        30    30     0        0       0  100 %
    firewall-on                           medium    trial     7d        30    28     2        0       0   93 %
    certificate-valid                     high      enforced  3d         9     8     1        0       0   89 %
    agent-recent                          low       enforced  3d        60    60     0        0       0  100 %
    kiosk/disk.free_bytes                 low       enforced  7d        20    20     0        0       0  100 %
    kiosk/processes.guardd                high      enforced  5d        20    19     1        0       0   95 %
    kiosk/processes.soundings             medium    enforced  5d        20    20     0        0       0  100 %
    kiosk/processes                       medium    trial     5d        20    20     0        0       0  100 %
    laptop/software.seedpool              medium    enforced  4d        30    29     1        0       0   97 %
    laptop/software.peepcam               medium    enforced  4d        30    30     0        0       0  100 %
    laptop/software.hullplan              medium    enforced  4d        30    30     0        0       0  100 %
    ticket-server/processes.guardd        high      enforced  6d         9     9     0        0       0  100 %
    ticket-server/sshd.permit_root_login  high      enforced  6d         9     8     1        0       0   89 %
    ticket-server/log.retention_days      high      enforced  6d         9     8     1        0       0   89 %
    ticket-server/queue.workers           high      trial     6d         9     8     1        0       0   89 %
    ticket-server/processes.ticketd       high      enforced  6d         9     9     0        0       0  100 %
    drift/ticket-servers                  low       trial     14d        9     7     2        0       0   78 %
    ------- standard error -------

    26 rules, as of Sun 14 Mar 2027 00:00; left out for want of room: title, changed (--columns shows them)

    Next: fencepost show bridge-lock
    ");
}

#[test]
fn list_coverage() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "coverage", "--as-of", "2027-03-05"]), @r#"
    $ fencepost list coverage --as-of 2027-03-05
    TOPIC         PLATFORM  ROLE           DEVICES  COVERED  SHARE  EXCEPTED  LEFT OUT  NAMES
    encryption    android   scanner             20       15   75 %         0         5  ness-pier-scanner-1,
                                                                                        ness-pier-scanner-2,
                                                                                        ness-pier-scanner-3,
                                                                                        ness-pier-scanner-4,
                                                                                        ness-pier-scanner-5
    (any)         android   bridge-tablet       12       12  100 %         0         0
    (any)         android   crew-phone          37       37  100 %         0         0
    (any)         android   scanner             20       20  100 %         0         0
    (any)         ios       crew-phone          17       17  100 %         0         0
    (any)         linux     kiosk               21       21  100 %         0         0
    (any)         linux     ticket-server        9        9  100 %         0         0
    (any)         macos     laptop               7        7  100 %         0         0
    (any)         windows   laptop              23       23  100 %         0         0
    certificates  linux     ticket-server        9        9  100 %         0         0
    charts        android   bridge-tablet       12       12  100 %         0         0
    encryption    android   bridge-tablet       12       12  100 %         0         0
    encryption    android   crew-phone          37       37  100 %         0         0
    encryption    ios       crew-phone          17       17  100 %         0         0
    encryption    macos     laptop               7        7  100 %         0         0
    encryption    windows   laptop              23       23  100 %         0         0
    hardening     linux     ticket-server        9        9  100 %         0         0
    integrity     android   bridge-tablet       12       12  100 %         0         0
    integrity     android   crew-phone          37       37  100 %         0         0
    integrity     android   scanner             20       20  100 %         0         0
    integrity     ios       crew-phone          17       17  100 %         0         0
    lock          android   bridge-tablet       12       12  100 %         0         0
    lock          android   crew-phone          37       37  100 %         0         0
    lock          android   scanner             20       20  100 %         0         0
    lock          ios       crew-phone          17       17  100 %         0         0
    lock          macos     laptop               7        7  100 %         0         0
    lock          windows   laptop              23       23  100 %         0         0
    programs      macos     laptop               7        7  100 %         0         0
    programs      windows   laptop              23       23  100 %         0         0
    protection    linux     kiosk               21       20   95 %         1         0
    protection    linux     ticket-server        9        9  100 %         0         0
    reporting     linux     kiosk               21       21  100 %         0         0
    reporting     linux     ticket-server        9        9  100 %         0         0
    reporting     macos     laptop               7        7  100 %         0         0
    reporting     windows   laptop              23       23  100 %         0         0
    service       linux     kiosk               21       20   95 %         1         0
    storage       linux     kiosk               21       20   95 %         1         0
    updates       android   bridge-tablet       12       12  100 %         0         0
    updates       android   crew-phone          37       37  100 %         0         0
    updates       android   scanner             20       20  100 %         0         0
    updates       macos     laptop               7        7  100 %         0         0
    updates       windows   laptop              23       23  100 %         0         0
    ------- standard error -------

    42 kinds of devices, topic by topic, as of Fri 5 Mar 2027 00:00

    Next: fencepost list devices --where 'platform = "android" and role = "scanner"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "coverage", "--as-of", "2027-03-10"]), @r#"
    $ fencepost list coverage --as-of 2027-03-10
    TOPIC         PLATFORM  ROLE           DEVICES  COVERED  SHARE  EXCEPTED  LEFT OUT  NAMES
    encryption    android   scanner             20       15   75 %         0         5  ness-pier-scanner-1,
                                                                                        ness-pier-scanner-2,
                                                                                        ness-pier-scanner-3,
                                                                                        ness-pier-scanner-4,
                                                                                        ness-pier-scanner-5
    (any)         android   bridge-tablet       12       12  100 %         0         0
    (any)         android   crew-phone          37       37  100 %         0         0
    (any)         android   scanner             20       20  100 %         0         0
    (any)         ios       crew-phone          17       17  100 %         0         0
    (any)         linux     kiosk               21       21  100 %         0         0
    (any)         linux     ticket-server        9        9  100 %         0         0
    (any)         macos     laptop               7        7  100 %         0         0
    (any)         windows   laptop              23       23  100 %         0         0
    certificates  linux     ticket-server        9        9  100 %         0         0
    charts        android   bridge-tablet       12       12  100 %         0         0
    encryption    android   bridge-tablet       12       12  100 %         0         0
    encryption    android   crew-phone          37       37  100 %         0         0
    encryption    ios       crew-phone          17       17  100 %         0         0
    encryption    macos     laptop               7        7  100 %         0         0
    encryption    windows   laptop              23       23  100 %         0         0
    hardening     linux     ticket-server        9        9  100 %         0         0
    integrity     android   bridge-tablet       12       12  100 %         0         0
    integrity     android   crew-phone          37       37  100 %         0         0
    integrity     android   scanner             20       20  100 %         0         0
    integrity     ios       crew-phone          17       17  100 %         0         0
    lock          android   bridge-tablet       12       12  100 %         0         0
    lock          android   crew-phone          37       37  100 %         0         0
    lock          android   scanner             20       20  100 %         0         0
    lock          ios       crew-phone          17       17  100 %         0         0
    lock          macos     laptop               7        7  100 %         0         0
    lock          windows   laptop              23       23  100 %         0         0
    programs      macos     laptop               7        7  100 %         0         0
    programs      windows   laptop              23       23  100 %         0         0
    protection    linux     kiosk               21       20   95 %         1         0
    protection    linux     ticket-server        9        9  100 %         0         0
    reporting     linux     kiosk               21       21  100 %         0         0
    reporting     linux     ticket-server        9        9  100 %         0         0
    reporting     macos     laptop               7        7  100 %         0         0
    reporting     windows   laptop              23       23  100 %         0         0
    service       linux     kiosk               21       20   95 %         1         0
    storage       linux     kiosk               21       20   95 %         1         0
    updates       android   bridge-tablet       12       12  100 %         0         0
    updates       android   crew-phone          37       37  100 %         0         0
    updates       android   scanner             20       20  100 %         0         0
    updates       macos     laptop               7        7  100 %         0         0
    updates       windows   laptop              23       23  100 %         0         0
    ------- standard error -------

    42 kinds of devices, topic by topic, as of Wed 10 Mar 2027 00:00

    Next: fencepost list devices --where 'platform = "android" and role = "scanner"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "coverage", "--as-of", "2027-03-14"]), @r#"
    $ fencepost list coverage --as-of 2027-03-14
    TOPIC         PLATFORM  ROLE           DEVICES  COVERED  SHARE  EXCEPTED  LEFT OUT  NAMES
    encryption    android   scanner             20       15   75 %         0         5  ness-pier-scanner-1,
                                                                                        ness-pier-scanner-2,
                                                                                        ness-pier-scanner-3,
                                                                                        ness-pier-scanner-4,
                                                                                        ness-pier-scanner-5
    (any)         android   bridge-tablet       12       12  100 %         0         0
    (any)         android   crew-phone          37       37  100 %         0         0
    (any)         android   scanner             20       20  100 %         0         0
    (any)         ios       crew-phone          17       17  100 %         0         0
    (any)         linux     kiosk               21       21  100 %         0         0
    (any)         linux     ticket-server        9        9  100 %         0         0
    (any)         macos     laptop               7        7  100 %         0         0
    (any)         windows   laptop              23       23  100 %         0         0
    certificates  linux     ticket-server        9        9  100 %         0         0
    charts        android   bridge-tablet       12       12  100 %         0         0
    encryption    android   bridge-tablet       12       12  100 %         0         0
    encryption    android   crew-phone          37       37  100 %         0         0
    encryption    ios       crew-phone          17       17  100 %         0         0
    encryption    macos     laptop               7        7  100 %         0         0
    encryption    windows   laptop              23       23  100 %         0         0
    hardening     linux     ticket-server        9        9  100 %         0         0
    integrity     android   bridge-tablet       12       12  100 %         0         0
    integrity     android   crew-phone          37       37  100 %         0         0
    integrity     android   scanner             20       20  100 %         0         0
    integrity     ios       crew-phone          17       17  100 %         0         0
    lock          android   bridge-tablet       12       12  100 %         0         0
    lock          android   crew-phone          37       37  100 %         0         0
    lock          android   scanner             20       20  100 %         0         0
    lock          ios       crew-phone          17       17  100 %         0         0
    lock          macos     laptop               7        7  100 %         0         0
    lock          windows   laptop              23       23  100 %         0         0
    programs      macos     laptop               7        7  100 %         0         0
    programs      windows   laptop              23       23  100 %         0         0
    protection    linux     kiosk               21       20   95 %         1         0
    protection    linux     ticket-server        9        9  100 %         0         0
    reporting     linux     kiosk               21       21  100 %         0         0
    reporting     linux     ticket-server        9        9  100 %         0         0
    reporting     macos     laptop               7        7  100 %         0         0
    reporting     windows   laptop              23       23  100 %         0         0
    service       linux     kiosk               21       20   95 %         1         0
    storage       linux     kiosk               21       20   95 %         1         0
    updates       android   bridge-tablet       12       12  100 %         0         0
    updates       android   crew-phone          37       37  100 %         0         0
    updates       android   scanner             20       20  100 %         0         0
    updates       macos     laptop               7        7  100 %         0         0
    updates       windows   laptop              23       23  100 %         0         0
    ------- standard error -------

    42 kinds of devices, topic by topic, as of Sun 14 Mar 2027 00:00

    Next: fencepost list devices --where 'platform = "android" and role = "scanner"'
    "#);
}

#[test]
fn list_groups() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "groups", "--as-of", "2027-03-05"]), @r"
    $ fencepost list groups --as-of 2027-03-05
    GROUP           OF       MEMBERS  SHARE  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  TITLE
    every-device    devices      146   95 %        139          6         0              1  Every device
    ticket-servers  devices        9   89 %          8          1         0              0  Ticket servers, all ships and
                                                                                            terminals
    kiosks          devices       21   95 %         20          1         0              0  Passenger information
    bridge-tablets  devices       12   92 %         11          1         0              0  Tablets on the bridge
    laptops         devices       30   97 %         29          1         0              0  Laptops, company and personal
    crew-phones     devices       54   94 %         51          2         0              1  Phones that the crew use for
                                                                                            work
    holm-scanners   devices        5  100 %          5          0         0              0
    sund-scanners   devices        5  100 %          5          0         0              0
    ship-scanners   devices        5  100 %          5          0         0              0
    shore           devices       45   98 %         44          1         0              0  Everything that does not go to
                                                                                            sea
    dry-dock        devices        1  100 %          1          0         0              0  Razorbill's aft kiosk is taken
                                                                                            out for the refit
    bridge-devices  devices       18   94 %         17          1         0              0  What the officers of the bridge
                                                                                            carry
    crew            people        66                                                        Everybody aboard
    bridge          people        18                                                        Officers of the bridge
    staff           people        90                                                        Everybody
    ------- standard error -------

    15 groups, as of Fri 5 Mar 2027 00:00

    Next: fencepost show every-device
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "groups", "--as-of", "2027-03-10"]), @r"
    $ fencepost list groups --as-of 2027-03-10
    GROUP           OF       MEMBERS  SHARE  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  TITLE
    every-device    devices      146   91 %        133          8         1              4  Every device
    ticket-servers  devices        9   78 %          7          1         0              1  Ticket servers, all ships and
                                                                                            terminals
    kiosks          devices       21   86 %         18          2         0              1  Passenger information
    bridge-tablets  devices       12   92 %         11          1         0              0  Tablets on the bridge
    laptops         devices       30   87 %         26          4         0              0  Laptops, company and personal
    crew-phones     devices       54   94 %         51          0         1              2  Phones that the crew use for
                                                                                            work
    holm-scanners   devices        5  100 %          5          0         0              0
    sund-scanners   devices        5  100 %          5          0         0              0
    ship-scanners   devices        5  100 %          5          0         0              0
    shore           devices       45   93 %         42          3         0              0  Everything that does not go to
                                                                                            sea
    dry-dock        devices        1  100 %          1          0         0              0  Razorbill's aft kiosk is taken
                                                                                            out for the refit
    bridge-devices  devices       18   94 %         17          1         0              0  What the officers of the bridge
                                                                                            carry
    crew            people        66                                                        Everybody aboard
    bridge          people        18                                                        Officers of the bridge
    staff           people        90                                                        Everybody
    ------- standard error -------

    15 groups, as of Wed 10 Mar 2027 00:00

    Next: fencepost show every-device
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "groups", "--as-of", "2027-03-14"]), @r"
    $ fencepost list groups --as-of 2027-03-14
    GROUP           OF       MEMBERS  SHARE  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  TITLE
    every-device    devices      146   93 %        136          3         1              6  Every device
    ticket-servers  devices        9   78 %          7          1         0              1  Ticket servers, all ships and
                                                                                            terminals
    kiosks          devices       21   95 %         20          0         0              1  Passenger information
    bridge-tablets  devices       12   92 %         11          1         0              0  Tablets on the bridge
    laptops         devices       30   87 %         26          1         0              3  Laptops, company and personal
    crew-phones     devices       54   96 %         52          0         1              1  Phones that the crew use for
                                                                                            work
    holm-scanners   devices        5  100 %          5          0         0              0
    sund-scanners   devices        5  100 %          5          0         0              0
    ship-scanners   devices        5  100 %          5          0         0              0
    shore           devices       45   91 %         41          2         0              2  Everything that does not go to
                                                                                            sea
    dry-dock        devices        1  100 %          1          0         0              0  Razorbill's aft kiosk is taken
                                                                                            out for the refit
    bridge-devices  devices       18   94 %         17          1         0              0  What the officers of the bridge
                                                                                            carry
    crew            people        66                                                        Everybody aboard
    bridge          people        18                                                        Officers of the bridge
    staff           people        90                                                        Everybody
    ------- standard error -------

    15 groups, as of Sun 14 Mar 2027 00:00

    Next: fencepost show every-device
    ");
}

#[test]
fn list_findings() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "findings", "--as-of", "2027-03-05"]), @r"
    $ fencepost list findings --as-of 2027-03-05
    DEVICE              RULE                                  PHASE    DUE                           HOLDER
    razorbill-phone-4   not-rooted                            overdue  Thu 07:00, 17 h ago           Krogvelt
    tern-phone-5        silence                               open     Fri 07:00, in 7 h             Yrsrupp
    gannet-phone-2      android-supported                     open     Sat 07:00, in 1 d 7 h         Brodunk
    fulmar-kiosk-2      kiosk/processes.guardd                open     Mon 07:00, in 3 d 7 h
    tern-tickets        ticket-server/log.retention_days      open     Mon 07:00, in 3 d 7 h
    tern-tickets        ticket-server/sshd.permit_root_login  open     Mon 07:00, in 3 d 7 h
    office-laptop-4     laptop-lock                           open     Wed 07:00, in 5 d 7 h         Tvenask
    puffin-bridge-1     charts-current                        open     Sun 14 Mar 07:00, in 9 d 7 h  Ljusprett, Vravuld,
                                                                                                     Krofonn
    fulmar-bridge-1     bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Brobek, Mjufonn,
                                                                                                     Yrskrell
    fulmar-bridge-2     bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Ljunask, Tvefonn
    gannet-bridge-1     bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Fjogvelt, Plolumm,
                                                                                                     Drarupp
    gannet-bridge-2     bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Nyrtvark, Yrslumm
    petrel-bridge-1     bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Hvemott, Storupp,
                                                                                                     Glavuld
    petrel-bridge-2     bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Skadunk, Drasprett
    razorbill-bridge-1  bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Nyrbek, Brogvelt,
                                                                                                     Mjulumm
    razorbill-bridge-2  bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Yrsnask, Krogvelt
    tern-bridge-1       bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Skagvelt, Fjomott,
                                                                                                     Plorupp
    tern-bridge-2       bridge-lock                           waived   Wed 17 Mar 00:00, in 12 d     Dravuld, Mjumott
    puffin-bridge-1     bridge-lock                           waived   Sun 28 Mar 00:00, in 23 d     Ljusprett, Vravuld,
                                                                                                     Krofonn
    puffin-bridge-2     bridge-lock                           waived   Sun 28 Mar 00:00, in 23 d     Tvekrell, Glabek
    ------- standard error -------

    20 findings, as of Fri 5 Mar 2027 00:00; left out for want of room: opened, severity (--columns shows them)

    Next: fencepost why razorbill-phone-4 not-rooted
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "findings", "--as-of", "2027-03-10"]), @r"
    $ fencepost list findings --as-of 2027-03-10
    DEVICE               RULE                                  PHASE    DUE                        HOLDER
    razorbill-phone-4    not-rooted                            overdue  Thu 07:00, 5 d 17 h ago    Krogvelt
    tern-phone-5         silence                               overdue  Fri 07:00, 4 d 17 h ago    Yrsrupp
    gannet-phone-2       android-supported                     overdue  Sat 07:00, 3 d 17 h ago    Brodunk
    fulmar-kiosk-2       kiosk/processes.guardd                overdue  Mon 07:00, 1 d 17 h ago
    tern-tickets         ticket-server/log.retention_days      overdue  Mon 07:00, 1 d 17 h ago
    tern-tickets         ticket-server/sshd.permit_root_login  overdue  Mon 07:00, 1 d 17 h ago
    office-laptop-4      laptop-lock                           open     Wed 07:00, in 7 h          Tvenask
    office-laptop-7      laptop/software.seedpool              open     Wed 07:00, in 7 h          Glagvelt
    petrel-kiosk-1       silence                               open     Thu 07:00, in 1 d 7 h
    petrel-kiosk-2       silence                               open     Thu 07:00, in 1 d 7 h
    petrel-tickets       silence                               open     Thu 07:00, in 1 d 7 h
    puffin-laptop-chief  disk-encrypted                        open     Fri 07:00, in 2 d 7 h      Tvekrell
    office-laptop-2      laptop/software.peepcam               open     Sat 07:00, in 3 d 7 h      Vrafonn
    puffin-bridge-1      charts-current                        open     Sun 07:00, in 4 d 7 h      Ljusprett, Vravuld,
                                                                                                   Krofonn
    puffin-bridge-1      bridge-lock                           waived   Sun 28 Mar 00:00, in 18 d  Ljusprett, Vravuld,
                                                                                                   Krofonn
    puffin-bridge-2      bridge-lock                           waived   Sun 28 Mar 00:00, in 18 d  Tvekrell, Glabek
    ------- standard error -------

    16 findings, as of Wed 10 Mar 2027 00:00; left out for want of room: opened, severity (--columns shows them)

    Next: fencepost why razorbill-phone-4 not-rooted
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "findings", "--as-of", "2027-03-14"]), @r"
    $ fencepost list findings --as-of 2027-03-14
    DEVICE               RULE                                  PHASE    DUE                            HOLDER
    razorbill-phone-4    not-rooted                            overdue  Thu 4 Mar 07:00, 9 d 17 h ago  Krogvelt
    tern-phone-5         silence                               overdue  Fri 5 Mar 07:00, 8 d 17 h ago  Yrsrupp
    fulmar-kiosk-2       kiosk/processes.guardd                overdue  Mon 07:00, 5 d 17 h ago
    tern-tickets         ticket-server/log.retention_days      overdue  Mon 07:00, 5 d 17 h ago
    tern-tickets         ticket-server/sshd.permit_root_login  overdue  Mon 07:00, 5 d 17 h ago
    office-laptop-4      laptop-lock                           overdue  Wed 07:00, 3 d 17 h ago        Tvenask
    office-laptop-7      laptop/software.seedpool              overdue  Wed 07:00, 3 d 17 h ago        Glagvelt
    puffin-laptop-chief  disk-encrypted                        overdue  Fri 07:00, 1 d 17 h ago        Tvekrell
    puffin-bridge-1      charts-current                        open     Sun 07:00, in 7 h              Ljusprett, Vravuld,
                                                                                                       Krofonn
    ness-pier-tickets    certificate-valid                     open     Tue 07:00, in 2 d 7 h
    office-laptop-9      silence                               open     Tue 07:00, in 2 d 7 h          Fjorupp
    gannet-phone-2       android-supported                     waived   Sat 6 Mar 07:00, 7 d 17 h ago  Brodunk
    puffin-bridge-1      bridge-lock                           waived   Sun 28 Mar 00:00, in 14 d      Ljusprett, Vravuld,
                                                                                                       Krofonn
    puffin-bridge-2      bridge-lock                           waived   Sun 28 Mar 00:00, in 14 d      Tvekrell, Glabek
    ------- standard error -------

    14 findings, as of Sun 14 Mar 2027 00:00; left out for want of room: opened, severity (--columns shows them)

    Next: fencepost why razorbill-phone-4 not-rooted
    ");
}

#[test]
fn list_people() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "people", "--as-of", "2027-03-05"]), @r"
    $ fencepost list people --as-of 2027-03-05
    PERSON  NAME       UNIT                    DEVICES                                                  DENIED        REMARK
    B-1001  Brobek     ships/fulmar/bridge     fulmar-bridge-1, fulmar-laptop-master, fulmar-phone-9
    B-1002  Mjufonn    ships/fulmar/bridge     fulmar-bridge-1
    B-1003  Yrskrell   ships/fulmar/bridge     fulmar-bridge-1
    B-1004  Ljunask    ships/fulmar/engine     fulmar-bridge-2, fulmar-laptop-chief, fulmar-phone-1
    B-1005  Vrasprett  ships/fulmar/engine     fulmar-phone-2
    B-1006  Krobek     ships/fulmar/engine     fulmar-phone-3
    B-1007  Tvefonn    ships/fulmar/deck       fulmar-bridge-2, fulmar-phone-4
    B-1008  Hvelumm    ships/fulmar/deck       fulmar-phone-5
    B-1009  Stonask    ships/fulmar/deck       fulmar-phone-6
    B-1010  Glatvark   ships/fulmar/deck       fulmar-phone-7
    B-1011  Skabek     ships/fulmar/deck       fulmar-phone-8
    B-1012  Fjogvelt   ships/gannet/bridge     gannet-bridge-1, gannet-laptop-master, gannet-phone-9
    B-1013  Plolumm    ships/gannet/bridge     gannet-bridge-1
    B-1014  Drarupp    ships/gannet/bridge     gannet-bridge-1
    B-1015  Nyrtvark   ships/gannet/engine     gannet-bridge-2, gannet-laptop-chief, gannet-phone-1
    B-1016  Brodunk    ships/gannet/engine     gannet-phone-2
    B-1017  Mjugvelt   ships/gannet/engine     gannet-phone-3
    B-1018  Yrslumm    ships/gannet/deck       gannet-bridge-2, gannet-phone-4
    B-1019  Ljurupp    ships/gannet/deck       gannet-phone-5
    B-1020  Vratvark   ships/gannet/deck       gannet-phone-6
    B-1021  Krodunk    ships/gannet/deck       gannet-phone-7
    B-1022  Tvegvelt   ships/gannet/deck       gannet-phone-8
    B-1023  Hvemott    ships/petrel/bridge     petrel-bridge-1, petrel-laptop-master, petrel-phone-9
    B-1024  Storupp    ships/petrel/bridge     petrel-bridge-1
    B-1025  Glavuld    ships/petrel/bridge     petrel-bridge-1
    B-1026  Skadunk    ships/petrel/engine     petrel-bridge-2, petrel-laptop-chief, petrel-phone-1
    B-1027  Fjokrell   ships/petrel/engine     petrel-phone-2
    B-1028  Plomott    ships/petrel/engine     petrel-phone-3
    B-1029  Drasprett  ships/petrel/deck       petrel-bridge-2, petrel-phone-4
    B-1030  Nyrvuld    ships/petrel/deck       petrel-phone-5
    B-1031  Brofonn    ships/petrel/deck       petrel-phone-6
    B-1032  Mjukrell   ships/petrel/deck       petrel-phone-7
    B-1033  Yrsmott    ships/petrel/deck       petrel-phone-8
    B-1034  Ljusprett  ships/puffin/bridge     puffin-bridge-1, puffin-laptop-master, puffin-phone-9
    B-1035  Vravuld    ships/puffin/bridge     puffin-bridge-1
    B-1036  Krofonn    ships/puffin/bridge     puffin-bridge-1
    B-1037  Tvekrell   ships/puffin/engine     puffin-bridge-2, puffin-laptop-chief, puffin-phone-1
    B-1038  Hvenask    ships/puffin/engine     puffin-phone-2
    B-1039  Stosprett  ships/puffin/engine     puffin-phone-3
    B-1040  Glabek     ships/puffin/deck       puffin-bridge-2, puffin-phone-4
    B-1041  Skafonn    ships/puffin/deck       puffin-phone-5
    B-1042  Fjolumm    ships/puffin/deck       puffin-phone-6
    B-1043  Plonask    ships/puffin/deck       puffin-phone-7
    B-1044  Dratvark   ships/puffin/deck       puffin-phone-8
    B-1045  Nyrbek     ships/razorbill/bridge  razorbill-bridge-1, razorbill-laptop-master,
                                               razorbill-phone-9
    B-1046  Brogvelt   ships/razorbill/bridge  razorbill-bridge-1
    B-1047  Mjulumm    ships/razorbill/bridge  razorbill-bridge-1
    B-1048  Yrsnask    ships/razorbill/engine  razorbill-bridge-2, razorbill-laptop-chief,
                                               razorbill-phone-1
    B-1049  Ljutvark   ships/razorbill/engine  razorbill-phone-2
    B-1050  Vrabek     ships/razorbill/engine  razorbill-phone-3
    B-1051  Krogvelt   ships/razorbill/deck    razorbill-bridge-2, razorbill-phone-4                    mail, roster
    B-1052  Tvelumm    ships/razorbill/deck    razorbill-phone-5
    B-1053  Hverupp    ships/razorbill/deck    razorbill-phone-6
    B-1054  Stotvark   ships/razorbill/deck    razorbill-phone-7
    B-1055  Gladunk    ships/razorbill/deck    razorbill-phone-8
    B-1056  Skagvelt   ships/tern/bridge       tern-bridge-1, tern-laptop-master, tern-phone-9
    B-1057  Fjomott    ships/tern/bridge       tern-bridge-1
    B-1058  Plorupp    ships/tern/bridge       tern-bridge-1
    B-1059  Dravuld    ships/tern/engine       tern-bridge-2, tern-laptop-chief, tern-phone-1
    B-1060  Nyrdunk    ships/tern/engine       tern-phone-2
    B-1061  Brokrell   ships/tern/engine       tern-phone-3
    B-1062  Mjumott    ships/tern/deck         tern-bridge-2, tern-phone-4
    B-1063  Yrsrupp    ships/tern/deck         tern-phone-5
    B-1064  Ljuvuld    ships/tern/deck         tern-phone-6
    B-1065  Vradunk    ships/tern/deck         tern-phone-7
    B-1066  Krokrell   ships/tern/deck         tern-phone-8
    B-1067  Tvemott    terminals/holm-quay     holm-quay-laptop
    B-1068  Hvesprett  terminals/holm-quay
    B-1069  Stovuld    terminals/holm-quay
    B-1070  Glafonn    terminals/holm-quay
    B-1071  Skakrell   terminals/ness-pier     ness-pier-laptop
    B-1072  Fjonask    terminals/ness-pier
    B-1073  Plosprett  terminals/ness-pier
    B-1074  Drabek     terminals/ness-pier
    B-1075  Nyrfonn    terminals/sund-landing  sund-landing-laptop
    B-1076  Brolumm    terminals/sund-landing
    B-1077  Mjunask    terminals/sund-landing
    B-1078  Yrssprett  terminals/sund-landing
    B-1079  Ljubek     office                  office-laptop-1
    B-1080  Vrafonn    office                  office-laptop-2
    B-1081  Krolumm    office                  office-laptop-3
    B-1082  Tvenask    office                  office-laptop-4, office-own-laptop-1
    B-1083  Hvetvark   office                  office-laptop-5, office-own-laptop-2
    B-1084  Stobek     office                  office-laptop-6, office-own-laptop-3
    B-1085  Glagvelt   office                  office-laptop-7
    B-1086  Skalumm    office                  office-laptop-8
    B-1087  Fjorupp    office                  office-laptop-9
    B-1088  Plotvark   it                      it-laptop-1
    B-1089  Dradunk    it                      it-laptop-2
    B-1090  Nyrgvelt   it                      it-laptop-3
    ------- standard error -------

    90 people, as of Fri 5 Mar 2027 00:00

    Next: fencepost show B-1001
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "people", "--as-of", "2027-03-10"]), @r"
    $ fencepost list people --as-of 2027-03-10
    PERSON  NAME       UNIT                    DEVICES                                                  DENIED        REMARK
    B-1001  Brobek     ships/fulmar/bridge     fulmar-bridge-1, fulmar-laptop-master, fulmar-phone-9
    B-1002  Mjufonn    ships/fulmar/bridge     fulmar-bridge-1
    B-1003  Yrskrell   ships/fulmar/bridge     fulmar-bridge-1
    B-1004  Ljunask    ships/fulmar/engine     fulmar-bridge-2, fulmar-laptop-chief, fulmar-phone-1
    B-1005  Vrasprett  ships/fulmar/engine     fulmar-phone-2
    B-1006  Krobek     ships/fulmar/engine     fulmar-phone-3
    B-1007  Tvefonn    ships/fulmar/deck       fulmar-bridge-2, fulmar-phone-4
    B-1008  Hvelumm    ships/fulmar/deck       fulmar-phone-5
    B-1009  Stonask    ships/fulmar/deck       fulmar-phone-6
    B-1010  Glatvark   ships/fulmar/deck       fulmar-phone-7
    B-1011  Skabek     ships/fulmar/deck       fulmar-phone-8
    B-1012  Fjogvelt   ships/gannet/bridge     gannet-bridge-1, gannet-laptop-master, gannet-phone-9
    B-1013  Plolumm    ships/gannet/bridge     gannet-bridge-1
    B-1014  Drarupp    ships/gannet/bridge     gannet-bridge-1
    B-1015  Nyrtvark   ships/gannet/engine     gannet-bridge-2, gannet-laptop-chief, gannet-phone-1
    B-1016  Brodunk    ships/gannet/engine     gannet-phone-2                                           mail, roster
    B-1017  Mjugvelt   ships/gannet/engine     gannet-phone-3
    B-1018  Yrslumm    ships/gannet/deck       gannet-bridge-2, gannet-phone-4
    B-1019  Ljurupp    ships/gannet/deck       gannet-phone-5
    B-1020  Vratvark   ships/gannet/deck       gannet-phone-6
    B-1021  Krodunk    ships/gannet/deck       gannet-phone-7
    B-1022  Tvegvelt   ships/gannet/deck       gannet-phone-8
    B-1023  Hvemott    ships/petrel/bridge     petrel-bridge-1, petrel-laptop-master, petrel-phone-9
    B-1024  Storupp    ships/petrel/bridge     petrel-bridge-1
    B-1025  Glavuld    ships/petrel/bridge     petrel-bridge-1
    B-1026  Skadunk    ships/petrel/engine     petrel-bridge-2, petrel-laptop-chief, petrel-phone-1
    B-1027  Fjokrell   ships/petrel/engine     petrel-phone-2
    B-1028  Plomott    ships/petrel/engine     petrel-phone-3
    B-1029  Drasprett  ships/petrel/deck       petrel-bridge-2, petrel-phone-4
    B-1030  Nyrvuld    ships/petrel/deck       petrel-phone-5
    B-1031  Brofonn    ships/petrel/deck       petrel-phone-6
    B-1032  Mjukrell   ships/petrel/deck       petrel-phone-7
    B-1033  Yrsmott    ships/petrel/deck       petrel-phone-8
    B-1034  Ljusprett  ships/puffin/bridge     puffin-bridge-1, puffin-laptop-master, puffin-phone-9
    B-1035  Vravuld    ships/puffin/bridge     puffin-bridge-1
    B-1036  Krofonn    ships/puffin/bridge     puffin-bridge-1
    B-1037  Tvekrell   ships/puffin/engine     puffin-bridge-2, puffin-laptop-chief, puffin-phone-1
    B-1038  Hvenask    ships/puffin/engine     puffin-phone-2
    B-1039  Stosprett  ships/puffin/engine     puffin-phone-3
    B-1040  Glabek     ships/puffin/deck       puffin-bridge-2, puffin-phone-4
    B-1041  Skafonn    ships/puffin/deck       puffin-phone-5
    B-1042  Fjolumm    ships/puffin/deck       puffin-phone-6
    B-1043  Plonask    ships/puffin/deck       puffin-phone-7
    B-1044  Dratvark   ships/puffin/deck       puffin-phone-8
    B-1045  Nyrbek     ships/razorbill/bridge  razorbill-bridge-1, razorbill-laptop-master,
                                               razorbill-phone-9
    B-1046  Brogvelt   ships/razorbill/bridge  razorbill-bridge-1
    B-1047  Mjulumm    ships/razorbill/bridge  razorbill-bridge-1
    B-1048  Yrsnask    ships/razorbill/engine  razorbill-bridge-2, razorbill-laptop-chief,
                                               razorbill-phone-1
    B-1049  Ljutvark   ships/razorbill/engine  razorbill-phone-2
    B-1050  Vrabek     ships/razorbill/engine  razorbill-phone-3
    B-1051  Krogvelt   ships/razorbill/deck    razorbill-bridge-2, razorbill-phone-4                    mail, roster
    B-1052  Tvelumm    ships/razorbill/deck    razorbill-phone-5
    B-1053  Hverupp    ships/razorbill/deck    razorbill-phone-6
    B-1054  Stotvark   ships/razorbill/deck    razorbill-phone-7
    B-1055  Gladunk    ships/razorbill/deck    razorbill-phone-8
    B-1056  Skagvelt   ships/tern/bridge       tern-bridge-1, tern-laptop-master, tern-phone-9
    B-1057  Fjomott    ships/tern/bridge       tern-bridge-1
    B-1058  Plorupp    ships/tern/bridge       tern-bridge-1
    B-1059  Dravuld    ships/tern/engine       tern-bridge-2, tern-laptop-chief, tern-phone-1
    B-1060  Nyrdunk    ships/tern/engine       tern-phone-2
    B-1061  Brokrell   ships/tern/engine       tern-phone-3
    B-1062  Mjumott    ships/tern/deck         tern-bridge-2, tern-phone-4
    B-1063  Yrsrupp    ships/tern/deck         tern-phone-5                                             mail, roster
    B-1064  Ljuvuld    ships/tern/deck         tern-phone-6
    B-1065  Vradunk    ships/tern/deck         tern-phone-7
    B-1066  Krokrell   ships/tern/deck         tern-phone-8
    B-1067  Tvemott    terminals/holm-quay     holm-quay-laptop
    B-1068  Hvesprett  terminals/holm-quay
    B-1069  Stovuld    terminals/holm-quay
    B-1070  Glafonn    terminals/holm-quay
    B-1071  Skakrell   terminals/ness-pier     ness-pier-laptop
    B-1072  Fjonask    terminals/ness-pier
    B-1073  Plosprett  terminals/ness-pier
    B-1074  Drabek     terminals/ness-pier
    B-1075  Nyrfonn    terminals/sund-landing  sund-landing-laptop
    B-1076  Brolumm    terminals/sund-landing
    B-1077  Mjunask    terminals/sund-landing
    B-1078  Yrssprett  terminals/sund-landing
    B-1079  Ljubek     office                  office-laptop-1
    B-1080  Vrafonn    office                  office-laptop-2
    B-1081  Krolumm    office                  office-laptop-3
    B-1082  Tvenask    office                  office-laptop-4, office-own-laptop-1
    B-1083  Hvetvark   office                  office-laptop-5, office-own-laptop-2
    B-1084  Stobek     office                  office-laptop-6, office-own-laptop-3
    B-1085  Glagvelt   office                  office-laptop-7
    B-1086  Skalumm    office                  office-laptop-8
    B-1087  Fjorupp    office                  office-laptop-9
    B-1088  Plotvark   it                      it-laptop-1
    B-1089  Dradunk    it                      it-laptop-2
    B-1090  Nyrgvelt   it                      it-laptop-3
    ------- standard error -------

    90 people, as of Wed 10 Mar 2027 00:00

    Next: fencepost show B-1001
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "people", "--as-of", "2027-03-14"]), @r"
    $ fencepost list people --as-of 2027-03-14
    PERSON  NAME       UNIT                    DEVICES                                                  DENIED        REMARK
    B-1001  Brobek     ships/fulmar/bridge     fulmar-bridge-1, fulmar-laptop-master, fulmar-phone-9
    B-1002  Mjufonn    ships/fulmar/bridge     fulmar-bridge-1
    B-1003  Yrskrell   ships/fulmar/bridge     fulmar-bridge-1
    B-1004  Ljunask    ships/fulmar/engine     fulmar-bridge-2, fulmar-laptop-chief, fulmar-phone-1
    B-1005  Vrasprett  ships/fulmar/engine     fulmar-phone-2
    B-1006  Krobek     ships/fulmar/engine     fulmar-phone-3
    B-1007  Tvefonn    ships/fulmar/deck       fulmar-bridge-2, fulmar-phone-4
    B-1008  Hvelumm    ships/fulmar/deck       fulmar-phone-5
    B-1009  Stonask    ships/fulmar/deck       fulmar-phone-6
    B-1010  Glatvark   ships/fulmar/deck       fulmar-phone-7
    B-1011  Skabek     ships/fulmar/deck       fulmar-phone-8
    B-1012  Fjogvelt   ships/gannet/bridge     gannet-bridge-1, gannet-laptop-master, gannet-phone-9
    B-1013  Plolumm    ships/gannet/bridge     gannet-bridge-1
    B-1014  Drarupp    ships/gannet/bridge     gannet-bridge-1
    B-1015  Nyrtvark   ships/gannet/engine     gannet-bridge-2, gannet-laptop-chief, gannet-phone-1
    B-1016  Brodunk    ships/gannet/engine     gannet-phone-2
    B-1017  Mjugvelt   ships/gannet/engine     gannet-phone-3
    B-1018  Yrslumm    ships/gannet/deck       gannet-bridge-2, gannet-phone-4
    B-1019  Ljurupp    ships/gannet/deck       gannet-phone-5
    B-1020  Vratvark   ships/gannet/deck       gannet-phone-6
    B-1021  Krodunk    ships/gannet/deck       gannet-phone-7
    B-1022  Tvegvelt   ships/gannet/deck       gannet-phone-8
    B-1023  Hvemott    ships/petrel/bridge     petrel-bridge-1, petrel-laptop-master, petrel-phone-9
    B-1024  Storupp    ships/petrel/bridge     petrel-bridge-1
    B-1025  Glavuld    ships/petrel/bridge     petrel-bridge-1
    B-1026  Skadunk    ships/petrel/engine     petrel-bridge-2, petrel-laptop-chief, petrel-phone-1
    B-1027  Fjokrell   ships/petrel/engine     petrel-phone-2
    B-1028  Plomott    ships/petrel/engine     petrel-phone-3
    B-1029  Drasprett  ships/petrel/deck       petrel-bridge-2, petrel-phone-4
    B-1030  Nyrvuld    ships/petrel/deck       petrel-phone-5
    B-1031  Brofonn    ships/petrel/deck       petrel-phone-6
    B-1032  Mjukrell   ships/petrel/deck       petrel-phone-7
    B-1033  Yrsmott    ships/petrel/deck       petrel-phone-8
    B-1034  Ljusprett  ships/puffin/bridge     puffin-bridge-1, puffin-laptop-master, puffin-phone-9
    B-1035  Vravuld    ships/puffin/bridge     puffin-bridge-1
    B-1036  Krofonn    ships/puffin/bridge     puffin-bridge-1
    B-1037  Tvekrell   ships/puffin/engine     puffin-bridge-2, puffin-laptop-chief, puffin-phone-1     mail, roster
    B-1038  Hvenask    ships/puffin/engine     puffin-phone-2
    B-1039  Stosprett  ships/puffin/engine     puffin-phone-3
    B-1040  Glabek     ships/puffin/deck       puffin-bridge-2, puffin-phone-4
    B-1041  Skafonn    ships/puffin/deck       puffin-phone-5
    B-1042  Fjolumm    ships/puffin/deck       puffin-phone-6
    B-1043  Plonask    ships/puffin/deck       puffin-phone-7
    B-1044  Dratvark   ships/puffin/deck       puffin-phone-8
    B-1045  Nyrbek     ships/razorbill/bridge  razorbill-bridge-1, razorbill-laptop-master,
                                               razorbill-phone-9
    B-1046  Brogvelt   ships/razorbill/bridge  razorbill-bridge-1
    B-1047  Mjulumm    ships/razorbill/bridge  razorbill-bridge-1
    B-1048  Yrsnask    ships/razorbill/engine  razorbill-bridge-2, razorbill-laptop-chief,
                                               razorbill-phone-1
    B-1049  Ljutvark   ships/razorbill/engine  razorbill-phone-2
    B-1050  Vrabek     ships/razorbill/engine  razorbill-phone-3
    B-1051  Krogvelt   ships/razorbill/deck    razorbill-bridge-2, razorbill-phone-4                    mail, roster
    B-1052  Tvelumm    ships/razorbill/deck    razorbill-phone-5
    B-1053  Hverupp    ships/razorbill/deck    razorbill-phone-6
    B-1054  Stotvark   ships/razorbill/deck    razorbill-phone-7
    B-1055  Gladunk    ships/razorbill/deck    razorbill-phone-8
    B-1056  Skagvelt   ships/tern/bridge       tern-bridge-1, tern-laptop-master, tern-phone-9
    B-1057  Fjomott    ships/tern/bridge       tern-bridge-1
    B-1058  Plorupp    ships/tern/bridge       tern-bridge-1
    B-1059  Dravuld    ships/tern/engine       tern-bridge-2, tern-laptop-chief, tern-phone-1
    B-1060  Nyrdunk    ships/tern/engine       tern-phone-2
    B-1061  Brokrell   ships/tern/engine       tern-phone-3
    B-1062  Mjumott    ships/tern/deck         tern-bridge-2, tern-phone-4
    B-1063  Yrsrupp    ships/tern/deck         tern-phone-5                                             mail, roster
    B-1064  Ljuvuld    ships/tern/deck         tern-phone-6
    B-1065  Vradunk    ships/tern/deck         tern-phone-7
    B-1066  Krokrell   ships/tern/deck         tern-phone-8
    B-1067  Tvemott    terminals/holm-quay     holm-quay-laptop
    B-1068  Hvesprett  terminals/holm-quay
    B-1069  Stovuld    terminals/holm-quay
    B-1070  Glafonn    terminals/holm-quay
    B-1071  Skakrell   terminals/ness-pier     ness-pier-laptop
    B-1072  Fjonask    terminals/ness-pier
    B-1073  Plosprett  terminals/ness-pier
    B-1074  Drabek     terminals/ness-pier
    B-1075  Nyrfonn    terminals/sund-landing  sund-landing-laptop
    B-1076  Brolumm    terminals/sund-landing
    B-1077  Mjunask    terminals/sund-landing
    B-1078  Yrssprett  terminals/sund-landing
    B-1079  Ljubek     office                  office-laptop-1
    B-1080  Vrafonn    office                  office-laptop-2
    B-1081  Krolumm    office                  office-laptop-3
    B-1082  Tvenask    office                  office-laptop-4, office-own-laptop-1                     mail, roster
    B-1083  Hvetvark   office                  office-laptop-5, office-own-laptop-2
    B-1084  Stobek     office                  office-laptop-6, office-own-laptop-3
    B-1085  Glagvelt   office                  office-laptop-7                                          mail, roster
    B-1086  Skalumm    office                  office-laptop-8
    B-1087  Fjorupp    office                  office-laptop-9
    B-1088  Plotvark   it                      it-laptop-1
    B-1089  Dradunk    it                      it-laptop-2
    B-1090  Nyrgvelt   it                      it-laptop-3
    ------- standard error -------

    90 people, as of Sun 14 Mar 2027 00:00

    Next: fencepost show B-1001
    ");
}

#[test]
fn list_services() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "services", "--as-of", "2027-03-05"]), @r"
    $ fencepost list services --as-of 2027-03-05
    SERVICE    DEFAULT  USUAL         PERMIT  LIMITED  DENY  TITLE
    roster     deny     app, browser     111        3    50  Crew roster
    mail       deny     app, browser     111        3    50  Mail
    charts     deny     app               30        0   134  Sea charts
    ticketing  deny     till              29        0   135  Ticketing
    wiki       permit   browser          164        0     0  Handbook
    ------- standard error -------

    5 services, as of Fri 5 Mar 2027 00:00

    Next: fencepost show ticketing
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "services", "--as-of", "2027-03-10"]), @r"
    $ fencepost list services --as-of 2027-03-10
    SERVICE    DEFAULT  USUAL         PERMIT  LIMITED  DENY  TITLE
    roster     deny     app, browser     109        5    50  Crew roster
    mail       deny     app, browser     109        5    50  Mail
    charts     deny     app               30        0   134  Sea charts
    ticketing  deny     till              28        0   136  Ticketing
    wiki       permit   browser          161        3     0  Handbook
    ------- standard error -------

    5 services, as of Wed 10 Mar 2027 00:00

    Next: fencepost show ticketing
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "services", "--as-of", "2027-03-14"]), @r"
    $ fencepost list services --as-of 2027-03-14
    SERVICE    DEFAULT  USUAL         PERMIT  LIMITED  DENY  TITLE
    roster     deny     app, browser     107        7    50  Crew roster
    mail       deny     app, browser     107        7    50  Mail
    charts     deny     app               30        0   134  Sea charts
    ticketing  deny     till              28        0   136  Ticketing
    wiki       permit   browser          164        0     0  Handbook
    ------- standard error -------

    5 services, as of Sun 14 Mar 2027 00:00

    Next: fencepost show ticketing
    ");
}

#[test]
fn list_assessments() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "assessments", "--as-of", "2027-03-05"]), @r"
    $ fencepost list assessments --as-of 2027-03-05
    ASSESSMENT  AS OF             DEVICES  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  WAIVED  OPENED  CLOSED  OVERDUE
            14  Sun 14 Mar 07:00      146        136          2         1              7       2       0       0        1
            13  Sat 13 Mar 07:00      146        136          3         1              6       2       1       0        0
            12  Fri 12 Mar 07:00      146        137          2         1              6       2       1       1        1
            11  Thu 11 Mar 07:00      146        136          3         1              6       1       0       3        0
            10  Wed 07:00             146        133          6         1              6       1       0       0        2
             9  Tue 07:00             146        133          8         1              4       1       2      10        0
             8  Mon 07:00             146        135          6         1              4      11       0       0        3
             7  Sun 07:00             146        135          8         1              2      11       4       0        0
             6  Sat 07:00             146        139          4         1              2      11       1       1        1
             5  Fri 07:00             146        139          5         1              1      11       0       0        1
             4  Thu 07:00             146        139          6         0              1      11       1       0        0
             3  Wed 07:00             146        140          6         0              0      11       2       0        0
             2  Tue 07:00             146        142          4         0              0      11       3       0        0
             1  Mon 07:00             146        144          2         0              0      12      14       0        0
    ------- standard error -------

    14 assessments, as of Fri 5 Mar 2027 00:00

    Next: fencepost history
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "assessments", "--as-of", "2027-03-10"]), @r"
    $ fencepost list assessments --as-of 2027-03-10
    ASSESSMENT  AS OF            DEVICES  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  WAIVED  OPENED  CLOSED  OVERDUE
            14  Sun 07:00            146        136          2         1              7       2       0       0        1
            13  Sat 07:00            146        136          3         1              6       2       1       0        0
            12  Fri 07:00            146        137          2         1              6       2       1       1        1
            11  Thu 07:00            146        136          3         1              6       1       0       3        0
            10  Wed 07:00            146        133          6         1              6       1       0       0        2
             9  Tue 07:00            146        133          8         1              4       1       2      10        0
             8  Mon 07:00            146        135          6         1              4      11       0       0        3
             7  Sun 07:00            146        135          8         1              2      11       4       0        0
             6  Sat 07:00            146        139          4         1              2      11       1       1        1
             5  Fri 07:00            146        139          5         1              1      11       0       0        1
             4  Thu 07:00            146        139          6         0              1      11       1       0        0
             3  Wed 3 Mar 07:00      146        140          6         0              0      11       2       0        0
             2  Tue 2 Mar 07:00      146        142          4         0              0      11       3       0        0
             1  Mon 1 Mar 07:00      146        144          2         0              0      12      14       0        0
    ------- standard error -------

    14 assessments, as of Wed 10 Mar 2027 00:00

    Next: fencepost history
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["list", "assessments", "--as-of", "2027-03-14"]), @r"
    $ fencepost list assessments --as-of 2027-03-14
    ASSESSMENT  AS OF            DEVICES  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  WAIVED  OPENED  CLOSED  OVERDUE
            14  Sun 07:00            146        136          2         1              7       2       0       0        1
            13  Sat 07:00            146        136          3         1              6       2       1       0        0
            12  Fri 07:00            146        137          2         1              6       2       1       1        1
            11  Thu 07:00            146        136          3         1              6       1       0       3        0
            10  Wed 07:00            146        133          6         1              6       1       0       0        2
             9  Tue 07:00            146        133          8         1              4       1       2      10        0
             8  Mon 07:00            146        135          6         1              4      11       0       0        3
             7  Sun 7 Mar 07:00      146        135          8         1              2      11       4       0        0
             6  Sat 6 Mar 07:00      146        139          4         1              2      11       1       1        1
             5  Fri 5 Mar 07:00      146        139          5         1              1      11       0       0        1
             4  Thu 4 Mar 07:00      146        139          6         0              1      11       1       0        0
             3  Wed 3 Mar 07:00      146        140          6         0              0      11       2       0        0
             2  Tue 2 Mar 07:00      146        142          4         0              0      11       3       0        0
             1  Mon 1 Mar 07:00      146        144          2         0              0      12      14       0        0
    ------- standard error -------

    14 assessments, as of Sun 14 Mar 2027 00:00

    Next: fencepost history
    ");
}

#[test]
fn list_sources() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "sources", "--as-of", "2027-03-05"]), @r#"
    $ fencepost list sources --as-of 2027-03-05
    SOURCE          ABOUT     LISTS  ABSENT  LAST IMPORT  NEWEST     MEDIAN     EXPECTED EVERY  LATE  SET ASIDE
    agents          devices      72       0  Thu 07:00    Thu 04:59  Thu 00:40  1d              no            1
    handhelds       devices      86       0  Thu 07:00    Thu 05:30  Thu 05:30  1d              no            0
    crew-list       people       90       0  Mon 07:00                                                        0
    accepted-terms  terms        56       0  Mon 07:00                                                        0
    setup           settings      0       0                                                                   0
    device-desk     commands      0       0                                                                   0
    terminal-log    signins       0       0                                                                   0
    ------- standard error -------

    7 sources, as of Fri 5 Mar 2027 00:00
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "sources", "--as-of", "2027-03-10"]), @r#"
    $ fencepost list sources --as-of 2027-03-10
    SOURCE          ABOUT     LISTS  ABSENT  LAST IMPORT      NEWEST     MEDIAN     EXPECTED EVERY  LATE  SET ASIDE
    agents          devices      72       0  Tue 07:00        Tue 04:56  Tue 00:55  1d              no            0
    handhelds       devices      86       0  Tue 07:00        Tue 05:30  Tue 05:30  1d              no            1
    crew-list       people       90       0  Mon 1 Mar 07:00                                                      0
    accepted-terms  terms        56       0  Mon 1 Mar 07:00                                                      0
    setup           settings     13       0  Tue 07:00                                                            0
    device-desk     commands      0       0                                                                       0
    terminal-log    signins       0       0                                                                       0
    ------- standard error -------

    7 sources, as of Wed 10 Mar 2027 00:00
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "sources", "--as-of", "2027-03-14"]), @r#"
    $ fencepost list sources --as-of 2027-03-14
    SOURCE          ABOUT     LISTS  ABSENT  LAST IMPORT      NEWEST     MEDIAN     EXPECTED EVERY  LATE  SET ASIDE
    agents          devices      72       0  Sat 07:00        Sat 04:59  Sat 00:46  1d              no            0
    handhelds       devices      86       0  Sat 07:00        Sat 05:30  Sat 05:30  1d              no            0
    crew-list       people       90       0  Mon 1 Mar 07:00                                                      0
    accepted-terms  terms        56       0  Mon 1 Mar 07:00                                                      0
    setup           settings     13       0  Tue 07:00                                                            0
    device-desk     commands      0       0  Fri 07:00                                                            0
    terminal-log    signins       0       0                                                                       0
    ------- standard error -------

    7 sources, as of Sun 14 Mar 2027 00:00
    "#);
}

#[test]
fn list_corrections() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "corrections", "--as-of", "2027-03-05"]), @r#"
    $ fencepost list corrections --as-of 2027-03-05
    DEVICE           FACT       VALUE    FEEDS SAY              STATE     BY          UNTIL            BECAUSE
    gannet-bridge-2  ownership  company  agents: company,       in force  fleet desk  Thu 1 Jul 00:00  Booked as the mate's
                                         handhelds: personal                                           own by mistake; the
                                                                                                       receipt is in the
                                                                                                       office.
    ------- standard error -------

    1 correction, as of Fri 5 Mar 2027 00:00
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "corrections", "--as-of", "2027-03-10"]), @r#"
    $ fencepost list corrections --as-of 2027-03-10
    DEVICE           FACT       VALUE    FEEDS SAY              STATE     BY          UNTIL            BECAUSE
    gannet-bridge-2  ownership  company  agents: company,       in force  fleet desk  Thu 1 Jul 00:00  Booked as the mate's
                                         handhelds: personal                                           own by mistake; the
                                                                                                       receipt is in the
                                                                                                       office.
    ------- standard error -------

    1 correction, as of Wed 10 Mar 2027 00:00
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "corrections", "--as-of", "2027-03-14"]), @r#"
    $ fencepost list corrections --as-of 2027-03-14
    DEVICE           FACT       VALUE    FEEDS SAY              STATE     BY          UNTIL            BECAUSE
    gannet-bridge-2  ownership  company  agents: company,       in force  fleet desk  Thu 1 Jul 00:00  Booked as the mate's
                                         handhelds: personal                                           own by mistake; the
                                                                                                       receipt is in the
                                                                                                       office.
    ------- standard error -------

    1 correction, as of Sun 14 Mar 2027 00:00
    "#);
}

#[test]
fn list_rejects() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rejects", "--as-of", "2027-03-05"]), @r#"
    $ fencepost list rejects --as-of 2027-03-05
    IMPORTED   SOURCE     FILE                            LINE  REASON
    Tue 07:00  handhelds  feeds/handhelds-2027-03-09.csv    88  this row has 3 cells under 16 headings
    Fri 07:00  handhelds  feeds/handhelds-2027-03-05.csv    88  no `Asset tag`: the record names no device
    Thu 07:00  agents     feeds/agents-2027-03-04.jsonl     72  byte 52: this text has no closing quote
    ------- standard error -------

    3 rejects, as of Fri 5 Mar 2027 00:00
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rejects", "--as-of", "2027-03-10"]), @r#"
    $ fencepost list rejects --as-of 2027-03-10
    IMPORTED   SOURCE     FILE                            LINE  REASON
    Tue 07:00  handhelds  feeds/handhelds-2027-03-09.csv    88  this row has 3 cells under 16 headings
    Fri 07:00  handhelds  feeds/handhelds-2027-03-05.csv    88  no `Asset tag`: the record names no device
    Thu 07:00  agents     feeds/agents-2027-03-04.jsonl     72  byte 52: this text has no closing quote
    ------- standard error -------

    3 rejects, as of Wed 10 Mar 2027 00:00
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rejects", "--as-of", "2027-03-14"]), @r#"
    $ fencepost list rejects --as-of 2027-03-14
    IMPORTED         SOURCE     FILE                            LINE  REASON
    Tue 07:00        handhelds  feeds/handhelds-2027-03-09.csv    88  this row has 3 cells under 16 headings
    Fri 5 Mar 07:00  handhelds  feeds/handhelds-2027-03-05.csv    88  no `Asset tag`: the record names no device
    Thu 4 Mar 07:00  agents     feeds/agents-2027-03-04.jsonl     72  byte 52: this text has no closing quote
    ------- standard error -------

    3 rejects, as of Sun 14 Mar 2027 00:00
    "#);
}

#[test]
fn list_devices_that_are_not_compliant() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--where", "standing != \"compliant\"", "--as-of", "2027-03-05"]), @r#"
    $ fencepost list devices --where 'standing != "compliant"' --as-of 2027-03-05
    DEVICE             STANDING         SITE       HOLDER                       OPEN  OVERDUE  WAIVED  COLLECTED AT
    fulmar-kiosk-2     ╱ on notice      Fulmar                                     1        0       0  Wed 21:14
    gannet-phone-2     ╱ on notice      Gannet     Brodunk                         1        0       0  Thu 05:30
    office-laptop-4    ╱ on notice      Office     Tvenask                         1        0       0  Thu 00:12
    puffin-bridge-1    ╱ on notice      Puffin     Ljusprett, Vravuld, Krofonn     1        0       1  Thu 05:30
    razorbill-phone-4  ╳ non-compliant  Razorbill  Krogvelt                        0        1       0  Thu 05:30
    tern-phone-5       ╱ on notice      Tern       Yrsrupp                         1        0       0  Thu 05:30
    tern-tickets       ╱ on notice      Tern                                       2        0       0  Wed 22:29
    ------- standard error -------

    7 of 146 devices, as of Fri 5 Mar 2027 00:00

    Next: fencepost why fulmar-kiosk-2
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--where", "standing != \"compliant\"", "--as-of", "2027-03-10"]), @r#"
    $ fencepost list devices --where 'standing != "compliant"' --as-of 2027-03-10
    DEVICE               STANDING         SITE       HOLDER                       OPEN  OVERDUE  WAIVED  COLLECTED AT
    fulmar-kiosk-2       ╳ non-compliant  Fulmar                                     0        1       0  Mon 23:47
    gannet-phone-2       ╳ non-compliant  Gannet     Brodunk                         0        1       0  Tue 05:30
    office-laptop-2      ╱ on notice      Office     Vrafonn                         1        0       0  Mon 23:10
    office-laptop-4      ╱ on notice      Office     Tvenask                         1        0       0  Mon 21:38
    office-laptop-7      ╱ on notice      Office     Glagvelt                        1        0       0  Mon 23:15
    petrel-kiosk-1       ╱ on notice      Petrel                                     1        0       0  Thu 04:59
    petrel-kiosk-2       ╱ on notice      Petrel                                     1        0       0  Wed 3 Mar 23:33
    petrel-tickets       ╱ on notice      Petrel                                     1        0       0  Wed 3 Mar 22:18
    puffin-bridge-1      ╱ on notice      Puffin     Ljusprett, Vravuld, Krofonn     1        0       1  Tue 05:30
    puffin-laptop-chief  ╱ on notice      Puffin     Tvekrell                        1        0       0  Tue 04:49
    razorbill-phone-4    ╳ non-compliant  Razorbill  Krogvelt                        0        1       0  Tue 05:30
    tern-phone-5         ┆ unproven       Tern       Yrsrupp                         0        1       0  Tue 05:30
    tern-tickets         ╳ non-compliant  Tern                                       0        2       0  Tue 02:55
    ------- standard error -------

    13 of 146 devices, as of Wed 10 Mar 2027 00:00

    Next: fencepost why fulmar-kiosk-2
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--where", "standing != \"compliant\"", "--as-of", "2027-03-14"]), @r#"
    $ fencepost list devices --where 'standing != "compliant"' --as-of 2027-03-14
    DEVICE               STANDING         SITE       HOLDER                       OPEN  OVERDUE  WAIVED  COLLECTED AT
    fulmar-kiosk-2       ╳ non-compliant  Fulmar                                     0        1       0  Sat 02:47
    ness-pier-tickets    ╱ on notice      Ness Pier                                  1        0       0  Sat 04:37
    office-laptop-4      ╳ non-compliant  Office     Tvenask                         0        1       0  Sat 03:48
    office-laptop-7      ╳ non-compliant  Office     Glagvelt                        0        1       0  Fri 21:48
    office-laptop-9      ╱ on notice      Office     Fjorupp                         1        0       0  Sat 03:55
    puffin-bridge-1      ╱ on notice      Puffin     Ljusprett, Vravuld, Krofonn     1        0       1  Sat 05:30
    puffin-laptop-chief  ╳ non-compliant  Puffin     Tvekrell                        0        1       0  Fri 23:05
    razorbill-phone-4    ╳ non-compliant  Razorbill  Krogvelt                        0        1       0  Sat 05:30
    tern-phone-5         ┆ unproven       Tern       Yrsrupp                         0        1       0  Sat 05:30
    tern-tickets         ╳ non-compliant  Tern                                       0        2       0  Sat 04:15
    ------- standard error -------

    10 of 146 devices, as of Sun 14 Mar 2027 00:00

    Next: fencepost why fulmar-kiosk-2
    "#);
}

#[test]
fn list_devices_counted_by_platform() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--by", "platform", "--as-of", "2027-03-05"]), @r#"
    $ fencepost list devices --by platform --as-of 2027-03-05
    PLATFORM  COUNT  SHARE  PART  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  WAIVED
    android      69   96 %  47 %         66          2         0              1      11
    linux        30   93 %  21 %         28          2         0              0       0
    windows      23   96 %  16 %         22          1         0              0       0
    ios          17   94 %  12 %         16          1         0              0       0
    macos         7  100 %   5 %          7          0         0              0       0
    ------- standard error -------

    146 devices, as of Fri 5 Mar 2027 00:00

    Next: fencepost list devices --where 'platform = "android"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--by", "platform", "--as-of", "2027-03-10"]), @r#"
    $ fencepost list devices --by platform --as-of 2027-03-10
    PLATFORM  COUNT  SHARE  PART  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  WAIVED
    android      69   96 %  47 %         66          1         0              2       1
    linux        30   83 %  21 %         25          3         0              2       0
    windows      23   83 %  16 %         19          4         0              0       0
    ios          17   94 %  12 %         16          0         1              0       0
    macos         7  100 %   5 %          7          0         0              0       0
    ------- standard error -------

    146 devices, as of Wed 10 Mar 2027 00:00

    Next: fencepost list devices --where 'platform = "android"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--by", "platform", "--as-of", "2027-03-14"]), @r#"
    $ fencepost list devices --by platform --as-of 2027-03-14
    PLATFORM  COUNT  SHARE  PART  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  WAIVED
    android      69   97 %  47 %         67          1         0              1       2
    linux        30   90 %  21 %         27          1         0              2       0
    windows      23   87 %  16 %         20          0         0              3       0
    ios          17   94 %  12 %         16          0         1              0       0
    macos         7   86 %   5 %          6          1         0              0       0
    ------- standard error -------

    146 devices, as of Sun 14 Mar 2027 00:00

    Next: fencepost list devices --where 'platform = "android"'
    "#);
}

#[test]
fn list_devices_with_facts() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--where", "platform = \"android\"", "--columns", "device,os.version,holder,groups,sources", "--sort", "-os.version"]), @r#"
    $ fencepost list devices --where 'platform = "android"' --columns device,os.version,holder,groups,sources --sort -os.version
    DEVICE                  OS.VERSION  HOLDER                       GROUPS                                SOURCES
    fulmar-bridge-1         13.0        Brobek, Mjufonn, Yrskrell    bridge-tablets, bridge-devices,       agents, handhelds
                                                                     crew, bridge, staff
    fulmar-bridge-2         13.0        Ljunask, Tvefonn             bridge-tablets, crew, staff           agents, handhelds
    fulmar-phone-1          13.0        Ljunask                      crew-phones, crew, staff              handhelds
    fulmar-phone-3          13.0        Krobek                       crew-phones, crew, staff              handhelds
    fulmar-phone-4          13.0        Tvefonn                      crew-phones, crew, staff              handhelds
    fulmar-phone-5          13.0        Hvelumm                      crew-phones, crew, staff              handhelds
    fulmar-phone-6          13.0        Stonask                      crew-phones, crew, staff              handhelds
    fulmar-phone-7          13.0        Glatvark                     crew-phones, crew, staff              handhelds
    fulmar-phone-8          13.0        Skabek                       crew-phones, crew, staff              handhelds
    fulmar-phone-9          13.0        Brobek                       crew-phones, bridge-devices, crew,    handhelds
                                                                     bridge, staff
    fulmar-scanner-1        13.0                                     ship-scanners                         handhelds
    gannet-bridge-1         13.0        Fjogvelt, Plolumm, Drarupp   bridge-tablets, bridge-devices,       agents, handhelds
                                                                     crew, bridge, staff
    gannet-bridge-2         13.0        Nyrtvark, Yrslumm            bridge-tablets, crew, staff           agents, handhelds
    gannet-phone-1          13.0        Nyrtvark                     crew-phones, crew, staff              handhelds
    gannet-phone-3          13.0        Mjugvelt                     crew-phones, crew, staff              handhelds
    gannet-phone-4          13.0        Yrslumm                      crew-phones, crew, staff              handhelds
    gannet-phone-5          13.0        Ljurupp                      crew-phones, crew, staff              handhelds
    gannet-phone-6          13.0        Vratvark                     crew-phones, crew, staff              handhelds
    gannet-phone-8          13.0        Tvegvelt                     crew-phones, crew, staff              handhelds
    gannet-phone-9          13.0        Fjogvelt                     crew-phones, bridge-devices, crew,    handhelds
                                                                     bridge, staff
    gannet-scanner-1        13.0                                     ship-scanners                         handhelds
    holm-quay-scanner-1     13.0                                     holm-scanners, shore                  handhelds
    holm-quay-scanner-2     13.0                                     holm-scanners, shore                  handhelds
    holm-quay-scanner-3     13.0                                     holm-scanners, shore                  handhelds
    holm-quay-scanner-4     13.0                                     holm-scanners, shore                  handhelds
    holm-quay-scanner-5     13.0                                     holm-scanners, shore                  handhelds
    ness-pier-scanner-1     13.0                                     shore                                 handhelds
    ness-pier-scanner-2     13.0                                     shore                                 handhelds
    ness-pier-scanner-3     13.0                                     shore                                 handhelds
    ness-pier-scanner-4     13.0                                     shore                                 handhelds
    ness-pier-scanner-5     13.0                                     shore                                 handhelds
    petrel-bridge-1         13.0        Hvemott, Storupp, Glavuld    bridge-tablets, bridge-devices,       agents, handhelds
                                                                     crew, bridge, staff
    petrel-bridge-2         13.0        Skadunk, Drasprett           bridge-tablets, crew, staff           agents, handhelds
    petrel-phone-6          13.0        Brofonn                      crew-phones, crew, staff              handhelds
    petrel-phone-8          13.0        Yrsmott                      crew-phones, crew, staff              handhelds
    petrel-phone-9          13.0        Hvemott                      crew-phones, bridge-devices, crew,    handhelds
                                                                     bridge, staff
    petrel-scanner-1        13.0                                     ship-scanners                         handhelds
    puffin-bridge-1         13.0        Ljusprett, Vravuld, Krofonn  bridge-tablets, bridge-devices,       agents, handhelds
                                                                     crew, bridge, staff
    puffin-bridge-2         13.0        Tvekrell, Glabek             bridge-tablets, crew, staff           agents, handhelds
    puffin-phone-1          13.0        Tvekrell                     crew-phones, crew, staff              handhelds
    puffin-phone-2          13.0        Hvenask                      crew-phones, crew, staff              handhelds
    puffin-phone-3          13.0        Stosprett                    crew-phones, crew, staff              handhelds
    puffin-phone-5          13.0        Skafonn                      crew-phones, crew, staff              handhelds
    puffin-phone-7          13.0        Plonask                      crew-phones, crew, staff              handhelds
    razorbill-bridge-1      13.0        Nyrbek, Brogvelt, Mjulumm    bridge-tablets, bridge-devices,       agents, handhelds
                                                                     crew, bridge, staff
    razorbill-bridge-2      13.0        Yrsnask, Ljutvark            bridge-tablets, crew, staff           agents, handhelds
    razorbill-phone-1       13.0        Yrsnask                      crew-phones, crew, staff              handhelds
    razorbill-phone-2       13.0        Ljutvark                     crew-phones, crew, staff              handhelds
    razorbill-phone-4       13.0        Krogvelt                     crew-phones, crew, staff              handhelds
    razorbill-phone-5       13.0        Tvelumm                      crew-phones, crew, staff              handhelds
    razorbill-phone-6       13.0        Hverupp                      crew-phones, crew, staff              handhelds
    razorbill-phone-7       13.0        Stotvark                     crew-phones, crew, staff              handhelds
    razorbill-phone-9       13.0        Nyrbek                       crew-phones, bridge-devices, crew,    handhelds
                                                                     bridge, staff
    razorbill-scanner-1     13.0                                     ship-scanners                         handhelds
    sund-landing-scanner-1  13.0                                     sund-scanners, shore                  handhelds
    sund-landing-scanner-2  13.0                                     sund-scanners, shore                  handhelds
    sund-landing-scanner-3  13.0                                     sund-scanners, shore                  handhelds
    sund-landing-scanner-4  13.0                                     sund-scanners, shore                  handhelds
    sund-landing-scanner-5  13.0                                     sund-scanners, shore                  handhelds
    tern-bridge-1           13.0        Skagvelt, Fjomott, Plorupp   bridge-tablets, bridge-devices,       agents, handhelds
                                                                     crew, bridge, staff
    tern-bridge-2           13.0        Dravuld, Mjumott             bridge-tablets, crew, staff           agents, handhelds
    tern-phone-2            13.0        Nyrdunk                      crew-phones, crew, staff              handhelds
    tern-phone-3            13.0        Brokrell                     crew-phones, crew, staff              handhelds
    tern-phone-4            13.0        Mjumott                      crew-phones, crew, staff              handhelds
    tern-phone-6            13.0        Ljuvuld                      crew-phones, crew, staff              handhelds
    tern-phone-7            13.0        Vradunk                      crew-phones, crew, staff              handhelds
    tern-phone-8            13.0        Krokrell                     crew-phones, crew, staff              handhelds
    tern-scanner-1          13.0                                     ship-scanners                         handhelds
    gannet-phone-2          11.0        Brodunk                      crew-phones, crew, staff              handhelds
    ------- standard error -------

    69 of 146 devices, as of Sun 14 Mar 2027 07:00
    "#);
}

#[test]
fn access_tells_who_loses_what() {
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--as-of", "2027-03-05"]), @r#"
    $ fencepost access --as-of 2027-03-05
    Access as of Fri 5 Mar 2027 00:00 (Europe/Oslo), since Wed 3 Mar 2027 07:00
    1 person loses a service, with another way to it; 0 only reduced, 0 restored
      because  not-rooted 1
      what     Crew roster 1, Mail 1
      terms    2 people have yet to accept own-devices
      next     1 person on Fri 07:00, in 7 h; 81 people only if nothing is heard of their devices

    Lost, with another way to the service
      not-rooted: The platform's protection is in place
      do  Set the phone back to its factory state and enrol it again; the helpdesk on board helps.
        Krogvelt  Mail, Crew roster (app), still in with razorbill-bridge-2  razorbill-phone-4 (Razorbill)  since Thu 07:00

    Will lose, if nothing changes
      silence: one rule left without an answer
      do  Let the device report again: disk.encrypted
        Yrsrupp  Mail, Crew roster (app), still in by browser with no download  tern-phone-5 (Tern)  from Fri 07:00
      android-supported: Android is a version that still gets repairs
      do  Install the system update; where there is none, ask the helpdesk for another phone.
        Brodunk  Mail, Crew roster (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Sat 07:00
      ticket-server/log.retention_days: Ticket servers, all ships and terminals: log.retention_days >= 30;
      ticket-server/sshd.permit_root_login: Ticket servers, all ships and terminals: sshd.permit_root_login is no
      do  Set it as on the sister ships and restart the service.
        nobody's device  Ticketing (till)  tern-tickets (Tern)  from Mon 07:00
      laptop-lock: Laptops lock themselves, behind a long password
      do  Open the settings, Accounts: lock after 15 minutes at the latest, and use a password of ten characters or more.
        Tvenask  Mail, Crew roster (app), still in with office-own-laptop-1  office-laptop-4 (Office)  from Wed 07:00
      charts-current: Sea charts are of this year's edition
      do  Let the tablet download the charts in port, over the quay's network.
        Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with  puffin-bridge-1 (Puffin)  from Sun 14 Mar 07:00
                   puffin-laptop-master
        Vravuld    Sea charts (app); Mail, Crew roster (app), still in by    puffin-bridge-1 (Puffin)  from Sun 14 Mar 07:00
                   browser with no download
        Krofonn    Sea charts (app); Mail, Crew roster (app), still in by    puffin-bridge-1 (Puffin)  from Sun 14 Mar 07:00
                   browser with no download
      charts-on-the-bridge asks for certificate.not_after
        Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 15 Mar 21:00
        Plolumm   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 15 Mar 21:00
        Drarupp   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 15 Mar 21:00
      bridge-lock: Tablets on the bridge lock after ten minutes
      do  Open the settings, Display, and let the screen lock after ten minutes.
        Brobek   Sea charts (app); Mail, Crew roster (app), still in with    fulmar-bridge-1 (Fulmar)  from Wed 17 Mar 00:00
                 fulmar-laptop-master
        Mjufonn  Sea charts (app); Mail, Crew roster (app), still in by      fulmar-bridge-1 (Fulmar)  from Wed 17 Mar 00:00
                 browser with no download
      and 26 more: fencepost access --only losing

    1 person is denied a service by an access rule now: fencepost access --denied
    ------- standard error -------

    Next: fencepost why razorbill-phone-4
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--as-of", "2027-03-10"]), @r#"
    $ fencepost access --as-of 2027-03-10
    Access as of Wed 10 Mar 2027 00:00 (Europe/Oslo), since Mon 8 Mar 2027 07:00
    0 people lose a service; 0 only reduced, 0 restored
      terms    2 people have yet to accept own-devices
      next     2 people on Wed 07:00, in 7 h; 81 people only if nothing is heard of their devices

    Will lose, if nothing changes
      laptop-lock: Laptops lock themselves, behind a long password
      do  Open the settings, Accounts: lock after 15 minutes at the latest, and use a password of ten characters or more.
        Tvenask  Mail, Crew roster (app), still in with office-own-laptop-1  office-laptop-4 (Office)  from Wed 07:00
      laptop/software.seedpool: Laptops: no seedpool in software
      do  Remove the program and restart.
        Glagvelt  Mail, Crew roster (app), still in by browser with no download  office-laptop-7 (Office)  from Wed 07:00
      silence: 5 rules left without an answer
      do  Let the device report again: certificate.not_after, log.retention_days, processes.name, sshd.permit_root_login
        nobody's device  Ticketing (till)  petrel-tickets (Petrel)  from Thu 07:00
      disk-encrypted: Writable disks are encrypted
      do  Encryption is set. Restart the laptop; nothing else is needed.
        Tvekrell  Mail, Crew roster (app), still in with puffin-bridge-2  puffin-laptop-chief (Puffin)  from Fri 07:00
      laptop/software.peepcam: Laptops: no peepcam in software
      do  Remove the program and restart.
        Vrafonn  Mail, Crew roster (app), still in by browser with no download  office-laptop-2 (Office)  from Sat 07:00
      charts-current: Sea charts are of this year's edition
      do  Let the tablet download the charts in port, over the quay's network.
        Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with         puffin-bridge-1 (Puffin)  from Sun 07:00
                   puffin-laptop-master
        Vravuld    Sea charts (app); Mail, Crew roster (app), still in by browser   puffin-bridge-1 (Puffin)  from Sun 07:00
                   with no download
        Krofonn    Sea charts (app); Mail, Crew roster (app), still in by browser   puffin-bridge-1 (Puffin)  from Sun 07:00
                   with no download
      charts-on-the-bridge asks for certificate.not_after
        Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        Plolumm   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        Drarupp   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
      the waiver of android-supported ends
      do  Install the system update; where there is none, ask the helpdesk for another phone.
        Brodunk  Mail, Crew roster (app), still in by browser with no         gannet-phone-2 (Gannet)  from Wed 17 Mar 00:00
                 download
      and 2 more: fencepost access --only losing

    3 people and 1 device that nobody holds are denied a service by an access rule now: fencepost access --denied
    ------- standard error -------

    Next: fencepost why office-laptop-4
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--as-of", "2027-03-14"]), @r#"
    $ fencepost access --as-of 2027-03-14
    Access as of Sun 14 Mar 2027 00:00 (Europe/Oslo), since Fri 12 Mar 2027 07:00
    0 people lose a service; 0 only reduced, 0 restored
      terms    2 people have yet to accept own-devices
      next     3 people on Sun 07:00, in 7 h; 81 people only if nothing is heard of their devices

    Will lose, if nothing changes
      charts-current: Sea charts are of this year's edition
      do  Let the tablet download the charts in port, over the quay's network.
        Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with         puffin-bridge-1 (Puffin)  from Sun 07:00
                   puffin-laptop-master
        Vravuld    Sea charts (app); Mail, Crew roster (app), still in by browser   puffin-bridge-1 (Puffin)  from Sun 07:00
                   with no download
        Krofonn    Sea charts (app); Mail, Crew roster (app), still in by browser   puffin-bridge-1 (Puffin)  from Sun 07:00
                   with no download
      charts-on-the-bridge asks for certificate.not_after
        Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        Plolumm   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        Drarupp   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
      certificate-valid: The server's certificate is valid
      do  Order a new certificate from the office and install it.
        nobody's device  Ticketing (till)  ness-pier-tickets (Ness Pier)  from Tue 07:00
      silence: one rule left without an answer
      do  Let the device report again: password.length
        Fjorupp  Mail, Crew roster (app), still in by browser with no download  office-laptop-9 (Office)  from Tue 07:00
      the waiver of android-supported ends
      do  Install the system update; where there is none, ask the helpdesk for another phone.
        Brodunk  Mail, Crew roster (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Wed 00:00
      bridge-lock: Tablets on the bridge lock after ten minutes
      do  Open the settings, Display, and let the screen lock after ten minutes.
        Tvekrell  Sea charts (app); Mail, Crew roster (app), still in with   puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                  puffin-phone-1
        Glabek    Sea charts (app); Mail, Crew roster (app), still in with   puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                  puffin-phone-4

    5 people and 1 device that nobody holds are denied a service by an access rule now: fencepost access --denied
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    "#);
}

#[test]
fn access_by_service_and_by_rule() {
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--by", "person"]), @r#"
    $ fencepost access --by person
    Access as of Sun 14 Mar 2027 07:00 (Europe/Oslo), since Sat 13 Mar 2027 07:00
    4 people lose a service, all with no other way to it; 0 only reduced, 0 restored
      because  charts-current 3, handed on 1
      where    Puffin 3, Razorbill 1
      what     Crew roster 4, Mail 4, Sea charts 4, Handbook 1
      terms    2 people have yet to accept own-devices
      next     3 people on Mon 21:00, in 1 d 14 h; 81 people only if nothing is heard of their devices

    Call first: no other way to a service
      Krofonn  1 person
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Krofonn  Sea charts (app); Mail, Crew roster (app), still in by browser  puffin-bridge-1 (Puffin)  since Sun 07:00
                   with no download
                   krofonn@bredesound.example, lead Ljusprett,
                   ships/puffin/bridge
      Krogvelt  1 person
        the device is not theirs any more
          Krogvelt  Sea charts (app); Mail, Crew roster (app, browser),      razorbill-bridge-2 (Razorbill)  since Sun 07:00
                    still in with razorbill-phone-4 with no download;
                    Handbook (browser), still in with razorbill-phone-4
                    krogvelt@bredesound.example, lead Nyrbek,
                    ships/razorbill/deck
      Ljusprett  1 person
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with      puffin-bridge-1 (Puffin)  since Sun 07:00
                     puffin-laptop-master
                     ljusprett@bredesound.example, ships/puffin/bridge
      Vravuld  1 person
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Vravuld  Sea charts (app); Mail, Crew roster (app), still in by browser  puffin-bridge-1 (Puffin)  since Sun 07:00
                   with no download
                   vravuld@bredesound.example, lead Ljusprett,
                   ships/puffin/bridge

    Will lose, if nothing changes
      Brodunk  1 person
        the waiver of android-supported ends
        do  Install the system update; where there is none, ask the helpdesk for another phone.
          Brodunk  Mail, Crew roster (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Wed 00:00
      Drarupp  1 person
        charts-on-the-bridge asks for certificate.not_after
          Drarupp  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
      Fjogvelt  1 person
        charts-on-the-bridge asks for certificate.not_after
          Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
      Fjorupp  1 person
        silence: one rule left without an answer
        do  Let the device report again: password.length
          Fjorupp  Mail, Crew roster (app), still in by browser with no download  office-laptop-9 (Office)  from Tue 07:00
      Glabek  1 person
        bridge-lock: Tablets on the bridge lock after ten minutes
        do  Open the settings, Display, and let the screen lock after ten minutes.
          Glabek  Sea charts (app); Mail, Crew roster (app), still in with   puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                  puffin-phone-4
      Plolumm  1 person
        charts-on-the-bridge asks for certificate.not_after
          Plolumm  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
      Tvekrell  1 person
        bridge-lock: Tablets on the bridge lock after ten minutes
        do  Open the settings, Display, and let the screen lock after ten minutes.
          Tvekrell  Sea charts (app); Mail, Crew roster (app), still in      puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                    with puffin-phone-1
      nobody's  1 device that nobody holds
        certificate-valid: The server's certificate is valid
        do  Order a new certificate from the office and install it.
          nobody's device  Ticketing (till)  ness-pier-tickets (Ness Pier)  from Tue 07:00

    8 people and 1 device that nobody holds are denied a service by an access rule now: fencepost access --denied
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--by", "service"]), @r#"
    $ fencepost access --by service
    Access as of Sun 14 Mar 2027 07:00 (Europe/Oslo), since Sat 13 Mar 2027 07:00
    4 people lose a service, all with no other way to it; 0 only reduced, 0 restored
      because  charts-current 3, handed on 1
      where    Puffin 3, Razorbill 1
      what     Crew roster 4, Mail 4, Sea charts 4, Handbook 1
      terms    2 people have yet to accept own-devices
      next     3 people on Mon 21:00, in 1 d 14 h; 81 people only if nothing is heard of their devices

    Call first: no other way to a service
      Crew roster  4 people
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Ljusprett  Crew roster (app), still in with puffin-laptop-master         puffin-bridge-1 (Puffin)  since Sun 07:00
                     ljusprett@bredesound.example, ships/puffin/bridge
          Vravuld    Crew roster (app), still in by browser with no download       puffin-bridge-1 (Puffin)  since Sun 07:00
                     vravuld@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
          Krofonn    Crew roster (app), still in by browser with no download       puffin-bridge-1 (Puffin)  since Sun 07:00
                     krofonn@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
        the device is not theirs any more
          Krogvelt  Crew roster (app, browser), still in with                razorbill-bridge-2 (Razorbill)  since Sun 07:00
                    razorbill-phone-4 with no download
                    krogvelt@bredesound.example, lead Nyrbek,
                    ships/razorbill/deck
      Handbook  1 person
        the device is not theirs any more
          Krogvelt  Handbook (browser), still in with razorbill-phone-4      razorbill-bridge-2 (Razorbill)  since Sun 07:00
                    krogvelt@bredesound.example, lead Nyrbek,
                    ships/razorbill/deck
      Mail  4 people
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Ljusprett  Mail (app), still in with puffin-laptop-master                puffin-bridge-1 (Puffin)  since Sun 07:00
                     ljusprett@bredesound.example, ships/puffin/bridge
          Vravuld    Mail (app), still in by browser with no download              puffin-bridge-1 (Puffin)  since Sun 07:00
                     vravuld@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
          Krofonn    Mail (app), still in by browser with no download              puffin-bridge-1 (Puffin)  since Sun 07:00
                     krofonn@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
        the device is not theirs any more
          Krogvelt  Mail (app, browser), still in with razorbill-phone-4     razorbill-bridge-2 (Razorbill)  since Sun 07:00
                    with no download
                    krogvelt@bredesound.example, lead Nyrbek,
                    ships/razorbill/deck
      Sea charts  4 people
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Ljusprett  Sea charts (app)                                              puffin-bridge-1 (Puffin)  since Sun 07:00
                     ljusprett@bredesound.example, ships/puffin/bridge
          Vravuld    Sea charts (app)                                              puffin-bridge-1 (Puffin)  since Sun 07:00
                     vravuld@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
          Krofonn    Sea charts (app)                                              puffin-bridge-1 (Puffin)  since Sun 07:00
                     krofonn@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
        the device is not theirs any more
          Krogvelt  Sea charts (app)                                         razorbill-bridge-2 (Razorbill)  since Sun 07:00
                    krogvelt@bredesound.example, lead Nyrbek,
                    ships/razorbill/deck

    Will lose, if nothing changes
      Crew roster  4 people
        silence: one rule left without an answer
        do  Let the device report again: password.length
          Fjorupp  Crew roster (app), still in by browser with no download  office-laptop-9 (Office)  from Tue 07:00
        the waiver of android-supported ends
        do  Install the system update; where there is none, ask the helpdesk for another phone.
          Brodunk  Crew roster (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Wed 00:00
        bridge-lock: Tablets on the bridge lock after ten minutes
        do  Open the settings, Display, and let the screen lock after ten minutes.
          Tvekrell  Crew roster (app), still in with puffin-phone-1  puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
          Glabek    Crew roster (app), still in with puffin-phone-4  puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
      Mail  4 people
        silence: one rule left without an answer
        do  Let the device report again: password.length
          Fjorupp  Mail (app), still in by browser with no download  office-laptop-9 (Office)  from Tue 07:00
        the waiver of android-supported ends
        do  Install the system update; where there is none, ask the helpdesk for another phone.
          Brodunk  Mail (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Wed 00:00
        bridge-lock: Tablets on the bridge lock after ten minutes
        do  Open the settings, Display, and let the screen lock after ten minutes.
          Tvekrell  Mail (app), still in with puffin-phone-1  puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
          Glabek    Mail (app), still in with puffin-phone-4  puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
      Sea charts  5 people
        charts-on-the-bridge asks for certificate.not_after
          Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
          Plolumm   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
          Drarupp   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        bridge-lock: Tablets on the bridge lock after ten minutes
        do  Open the settings, Display, and let the screen lock after ten minutes.
          Tvekrell  Sea charts (app)  puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
          Glabek    Sea charts (app)  puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
      Ticketing  1 device that nobody holds
        certificate-valid: The server's certificate is valid
        do  Order a new certificate from the office and install it.
          nobody's device  Ticketing (till)  ness-pier-tickets (Ness Pier)  from Tue 07:00

    8 people and 1 device that nobody holds are denied a service by an access rule now: fencepost access --denied
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--by", "site"]), @r#"
    $ fencepost access --by site
    Access as of Sun 14 Mar 2027 07:00 (Europe/Oslo), since Sat 13 Mar 2027 07:00
    4 people lose a service, all with no other way to it; 0 only reduced, 0 restored
      because  charts-current 3, handed on 1
      where    Puffin 3, Razorbill 1
      what     Crew roster 4, Mail 4, Sea charts 4, Handbook 1
      terms    2 people have yet to accept own-devices
      next     3 people on Mon 21:00, in 1 d 14 h; 81 people only if nothing is heard of their devices

    Call first: no other way to a service
      Puffin  3 people
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with      puffin-bridge-1 (Puffin)  since Sun 07:00
                     puffin-laptop-master
                     ljusprett@bredesound.example, ships/puffin/bridge
          Vravuld    Sea charts (app); Mail, Crew roster (app), still in by        puffin-bridge-1 (Puffin)  since Sun 07:00
                     browser with no download
                     vravuld@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
          Krofonn    Sea charts (app); Mail, Crew roster (app), still in by        puffin-bridge-1 (Puffin)  since Sun 07:00
                     browser with no download
                     krofonn@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
      Razorbill  1 person
        the device is not theirs any more
          Krogvelt  Sea charts (app); Mail, Crew roster (app, browser),      razorbill-bridge-2 (Razorbill)  since Sun 07:00
                    still in with razorbill-phone-4 with no download;
                    Handbook (browser), still in with razorbill-phone-4
                    krogvelt@bredesound.example, lead Nyrbek,
                    ships/razorbill/deck

    Will lose, if nothing changes
      Gannet  4 people
        charts-on-the-bridge asks for certificate.not_after
          Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
          Plolumm   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
          Drarupp   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        the waiver of android-supported ends
        do  Install the system update; where there is none, ask the helpdesk for another phone.
          Brodunk  Mail, Crew roster (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Wed 00:00
      Ness Pier  1 device that nobody holds
        certificate-valid: The server's certificate is valid
        do  Order a new certificate from the office and install it.
          nobody's device  Ticketing (till)  ness-pier-tickets (Ness Pier)  from Tue 07:00
      Office  1 person
        silence: one rule left without an answer
        do  Let the device report again: password.length
          Fjorupp  Mail, Crew roster (app), still in by browser with no download  office-laptop-9 (Office)  from Tue 07:00
      Puffin  2 people
        bridge-lock: Tablets on the bridge lock after ten minutes
        do  Open the settings, Display, and let the screen lock after ten minutes.
          Tvekrell  Sea charts (app); Mail, Crew roster (app), still in      puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                    with puffin-phone-1
          Glabek    Sea charts (app); Mail, Crew roster (app), still in      puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                    with puffin-phone-4

    8 people and 1 device that nobody holds are denied a service by an access rule now: fencepost access --denied
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--by", "rule"]), @r#"
    $ fencepost access --by rule
    Access as of Sun 14 Mar 2027 07:00 (Europe/Oslo), since Sat 13 Mar 2027 07:00
    4 people lose a service, all with no other way to it; 0 only reduced, 0 restored
      because  charts-current 3, handed on 1
      where    Puffin 3, Razorbill 1
      what     Crew roster 4, Mail 4, Sea charts 4, Handbook 1
      terms    2 people have yet to accept own-devices
      next     3 people on Mon 21:00, in 1 d 14 h; 81 people only if nothing is heard of their devices

    Call first: no other way to a service
      charts-current  3 people
        charts-current: Sea charts are of this year's edition
        do  Let the tablet download the charts in port, over the quay's network.
          Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with      puffin-bridge-1 (Puffin)  since Sun 07:00
                     puffin-laptop-master
                     ljusprett@bredesound.example, ships/puffin/bridge
          Vravuld    Sea charts (app); Mail, Crew roster (app), still in by        puffin-bridge-1 (Puffin)  since Sun 07:00
                     browser with no download
                     vravuld@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
          Krofonn    Sea charts (app); Mail, Crew roster (app), still in by        puffin-bridge-1 (Puffin)  since Sun 07:00
                     browser with no download
                     krofonn@bredesound.example, lead Ljusprett,
                     ships/puffin/bridge
      the device is not theirs any more  1 person
        the device is not theirs any more
          Krogvelt  Sea charts (app); Mail, Crew roster (app, browser),      razorbill-bridge-2 (Razorbill)  since Sun 07:00
                    still in with razorbill-phone-4 with no download;
                    Handbook (browser), still in with razorbill-phone-4
                    krogvelt@bredesound.example, lead Nyrbek,
                    ships/razorbill/deck

    Will lose, if nothing changes
      android-supported  1 person
        the waiver of android-supported ends
        do  Install the system update; where there is none, ask the helpdesk for another phone.
          Brodunk  Mail, Crew roster (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Wed 00:00
      bridge-lock  2 people
        bridge-lock: Tablets on the bridge lock after ten minutes
        do  Open the settings, Display, and let the screen lock after ten minutes.
          Tvekrell  Sea charts (app); Mail, Crew roster (app), still in      puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                    with puffin-phone-1
          Glabek    Sea charts (app); Mail, Crew roster (app), still in      puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                    with puffin-phone-4
      certificate-valid  1 device that nobody holds
        certificate-valid: The server's certificate is valid
        do  Order a new certificate from the office and install it.
          nobody's device  Ticketing (till)  ness-pier-tickets (Ness Pier)  from Tue 07:00
      charts-on-the-bridge asks for certificate.not_after  3 people
        charts-on-the-bridge asks for certificate.not_after
          Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
          Plolumm   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
          Drarupp   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
      silence  1 person
        silence: one rule left without an answer
        do  Let the device report again: password.length
          Fjorupp  Mail, Crew roster (app), still in by browser with no download  office-laptop-9 (Office)  from Tue 07:00

    8 people and 1 device that nobody holds are denied a service by an access rule now: fencepost access --denied
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    "#);
}

#[test]
fn everything_that_is_denied() {
    insta::assert_snapshot!(shown_by_the_demo(&["access", "--denied"]), @r#"
    $ fencepost access --denied
    Access as of Sun 14 Mar 2027 07:00 (Europe/Oslo), since Sat 13 Mar 2027 07:00
    4 people lose a service, all with no other way to it; 0 only reduced, 0 restored
      because  charts-current 3, handed on 1
      where    Puffin 3, Razorbill 1
      what     Crew roster 4, Mail 4, Sea charts 4, Handbook 1
      terms    2 people have yet to accept own-devices
      next     3 people on Mon 21:00, in 1 d 14 h; 81 people only if nothing is heard of their devices

    Call first: no other way to a service
      charts-current: Sea charts are of this year's edition
      do  Let the tablet download the charts in port, over the quay's network.
        Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with        puffin-bridge-1 (Puffin)  since Sun 07:00
                   puffin-laptop-master
                   ljusprett@bredesound.example, ships/puffin/bridge
        Vravuld    Sea charts (app); Mail, Crew roster (app), still in by browser  puffin-bridge-1 (Puffin)  since Sun 07:00
                   with no download
                   vravuld@bredesound.example, lead Ljusprett,
                   ships/puffin/bridge
        Krofonn    Sea charts (app); Mail, Crew roster (app), still in by browser  puffin-bridge-1 (Puffin)  since Sun 07:00
                   with no download
                   krofonn@bredesound.example, lead Ljusprett,
                   ships/puffin/bridge
      the device is not theirs any more
        Krogvelt  Sea charts (app); Mail, Crew roster (app, browser), still  razorbill-bridge-2 (Razorbill)  since Sun 07:00
                  in with razorbill-phone-4 with no download; Handbook
                  (browser), still in with razorbill-phone-4
                  krogvelt@bredesound.example, lead Nyrbek,
                  ships/razorbill/deck

    Will lose, if nothing changes
      charts-on-the-bridge asks for certificate.not_after
        Fjogvelt  Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        Plolumm   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
        Drarupp   Sea charts (app)  gannet-bridge-1 (Gannet)  from Mon 21:00
      certificate-valid: The server's certificate is valid
      do  Order a new certificate from the office and install it.
        nobody's device  Ticketing (till)  ness-pier-tickets (Ness Pier)  from Tue 07:00
      silence: one rule left without an answer
      do  Let the device report again: password.length
        Fjorupp  Mail, Crew roster (app), still in by browser with no download  office-laptop-9 (Office)  from Tue 07:00
      the waiver of android-supported ends
      do  Install the system update; where there is none, ask the helpdesk for another phone.
        Brodunk  Mail, Crew roster (app), still in by browser with no download  gannet-phone-2 (Gannet)  from Wed 00:00
      bridge-lock: Tablets on the bridge lock after ten minutes
      do  Open the settings, Display, and let the screen lock after ten minutes.
        Tvekrell  Sea charts (app); Mail, Crew roster (app), still in with   puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                  puffin-phone-1
        Glabek    Sea charts (app); Mail, Crew roster (app), still in with   puffin-bridge-2 (Puffin)  from Sun 28 Mar 00:00
                  puffin-phone-4

    Denied now
      charts-current: Sea charts are of this year's edition
      do  Let the tablet download the charts in port, over the quay's network.
        Ljusprett  Sea charts (app); Mail, Crew roster (app), still in with        puffin-bridge-1 (Puffin)  since Sun 07:00
                   puffin-laptop-master
        Vravuld    Sea charts (app); Mail, Crew roster (app), still in by browser  puffin-bridge-1 (Puffin)  since Sun 07:00
                   with no download
        Krofonn    Sea charts (app); Mail, Crew roster (app), still in by browser  puffin-bridge-1 (Puffin)  since Sun 07:00
                   with no download
      laptop-lock: Laptops lock themselves, behind a long password
      do  Open the settings, Accounts: lock after 15 minutes at the latest, and use a password of ten characters or more.
        Tvenask  Mail, Crew roster (app), still in with office-own-laptop-1  office-laptop-4 (Office)  since Wed 07:00
      laptop/software.seedpool: Laptops: no seedpool in software
      do  Remove the program and restart.
        Glagvelt  Mail, Crew roster (app), still in by browser with no download  office-laptop-7 (Office)  since Wed 07:00
      disk-encrypted: Writable disks are encrypted
      do  Encryption is set. Restart the laptop; nothing else is needed.
        Tvekrell  Mail, Crew roster (app), still in with puffin-bridge-2  puffin-laptop-chief (Puffin)  since Fri 07:00
      not-rooted: The platform's protection is in place
      do  Set the phone back to its factory state and enrol it again; the helpdesk on board helps.
        Krogvelt  Mail, Crew roster (app), still in by browser with no  razorbill-phone-4 (Razorbill)  since Thu 4 Mar 07:00
                  download
      silence: one rule left without an answer
      do  Let the device report again: disk.encrypted
        Yrsrupp  Mail, Crew roster (app), still in by browser with no download  tern-phone-5 (Tern)  since Fri 5 Mar 07:00
      ticket-server/log.retention_days: Ticket servers, all ships and terminals: log.retention_days >= 30;
      ticket-server/sshd.permit_root_login: Ticket servers, all ships and terminals: sshd.permit_root_login is no
      do  Set it as on the sister ships and restart the service.
        nobody's device  Ticketing (till)  tern-tickets (Tern)  since Mon 8 Mar 07:00
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    "#);
}

#[test]
fn a_device() {
    insta::assert_snapshot!(shown_by_the_demo(&["show", "puffin-bridge-1", "--as-of", "2027-03-05"]), @r"
    $ fencepost show puffin-bridge-1 --as-of 2027-03-05
    puffin-bridge-1  ╱ on notice
    held by Ljusprett (ships/puffin/bridge), Vravuld (ships/puffin/bridge), Krofonn (ships/puffin/bridge); state collected Thu 02:59, 21 h 1 min ago
    in bridge-tablets, bridge-devices, crew, bridge, staff

    Findings
      bridge-lock     waived until Sun 21 Mar 00:00, in 16 d  lock.idle_minutes is 30, required <= 10
      charts-current  due Sun 14 Mar 07:00, in 9 d 7 h        charts.edition is 2024-11-01, required >= 2027-01-01

    Access
      Crew roster  permit; deny from Sun 14 Mar 07:00, in 9 d 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Crew roster  permit; permit with no download from Sun 14 Mar 07:00, in 9 d 7 h (browser)  Ljusprett, Vravuld, Krofonn
      Mail         permit; deny from Sun 14 Mar 07:00, in 9 d 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Mail         permit; permit with no download from Sun 14 Mar 07:00, in 9 d 7 h (browser)  Ljusprett, Vravuld, Krofonn
      Sea charts   permit; deny from Sun 14 Mar 07:00, in 9 d 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Ticketing    deny by default (till)                                                       Ljusprett, Vravuld, Krofonn
      Handbook     permit (browser)                                                             Ljusprett, Vravuld, Krofonn

    Facts
      agent.last_seen        2027-03-04T01:59:00Z      agents     21 h 1 min ago
      agent.version          5.2.2                     agents     21 h 1 min ago
      certificate.not_after  2028-06-01T12:00:00Z      agents     21 h 1 min ago
      charts.edition         2024-11-01                agents     21 h 1 min ago
      disk.encrypted         true                      handhelds  18 h 30 min ago
      disk.free_bytes        44.5 GB                   handhelds  18 h 30 min ago
      lock.idle_minutes      30 min                    agents     21 h 1 min ago
      model                  Skerry T10                handhelds  18 h 30 min ago
      net.address            not collected
      os.name                android                   agents     21 h 1 min ago
      os.version             13.0                      agents     21 h 1 min ago
      ownership              company                   agents     21 h 1 min ago
      person                 [B-1034, B-1035, B-1036]  agents     21 h 1 min ago
                             but B-1034                handhelds  18 h 30 min ago
      platform               android                   agents     21 h 1 min ago
      role                   bridge-tablet             agents     21 h 1 min ago
      security.rooted        false                     handhelds  18 h 30 min ago
      site                   Puffin                    agents     21 h 1 min ago
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["show", "puffin-bridge-1", "--as-of", "2027-03-10"]), @r"
    $ fencepost show puffin-bridge-1 --as-of 2027-03-10
    puffin-bridge-1  ╱ on notice
    held by Ljusprett (ships/puffin/bridge), Vravuld (ships/puffin/bridge), Krofonn (ships/puffin/bridge); state collected Mon 23:18, 1 d ago
    in bridge-tablets, bridge-devices, crew, bridge, staff

    Findings
      bridge-lock     waived until Sun 21 Mar 00:00, in 11 d  lock.idle_minutes is 30, required <= 10
      charts-current  due Sun 07:00, in 4 d 7 h               charts.edition is 2024-11-01, required >= 2027-01-01

    Access
      Crew roster  permit; deny from Sun 07:00, in 4 d 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Crew roster  permit; permit with no download from Sun 07:00, in 4 d 7 h (browser)  Ljusprett, Vravuld, Krofonn
      Mail         permit; deny from Sun 07:00, in 4 d 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Mail         permit; permit with no download from Sun 07:00, in 4 d 7 h (browser)  Ljusprett, Vravuld, Krofonn
      Sea charts   permit; deny from Sun 07:00, in 4 d 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Ticketing    deny by default (till)                                                Ljusprett, Vravuld, Krofonn
      Handbook     permit (browser)                                                      Ljusprett, Vravuld, Krofonn

    Facts
      agent.last_seen        2027-03-08T22:18:00Z      agents     1 d ago
      agent.version          5.2.2                     agents     1 d ago
      certificate.not_after  2028-06-01T12:00:00Z      agents     1 d ago
      charts.edition         2024-11-01                agents     1 d ago
      disk.encrypted         true                      handhelds  18 h 30 min ago
      disk.free_bytes        44.5 GB                   handhelds  18 h 30 min ago
      lock.idle_minutes      30 min                    agents     1 d ago
      model                  Skerry T10                handhelds  18 h 30 min ago
      net.address            not collected
      os.name                android                   agents     1 d ago
      os.version             13.0                      agents     1 d ago
      ownership              company                   agents     1 d ago
      person                 [B-1034, B-1035, B-1036]  agents     1 d ago
                             but B-1034                handhelds  18 h 30 min ago
      platform               android                   agents     1 d ago
      role                   bridge-tablet             agents     1 d ago
      security.rooted        false                     handhelds  18 h 30 min ago
      site                   Puffin                    agents     1 d ago
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["show", "puffin-bridge-1", "--as-of", "2027-03-14"]), @r"
    $ fencepost show puffin-bridge-1 --as-of 2027-03-14
    puffin-bridge-1  ╱ on notice
    held by Ljusprett (ships/puffin/bridge), Vravuld (ships/puffin/bridge), Krofonn (ships/puffin/bridge); state collected Sat 04:57, 19 h 3 min ago
    in bridge-tablets, bridge-devices, crew, bridge, staff

    Findings
      bridge-lock     waived until Sun 21 Mar 00:00, in 7 d  lock.idle_minutes is 30, required <= 10
      charts-current  due Sun 07:00, in 7 h                  charts.edition is 2024-11-01, required >= 2027-01-01

    Access
      Crew roster  permit; deny from Sun 07:00, in 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Crew roster  permit; permit with no download from Sun 07:00, in 7 h (browser)  Ljusprett, Vravuld, Krofonn
      Mail         permit; deny from Sun 07:00, in 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Mail         permit; permit with no download from Sun 07:00, in 7 h (browser)  Ljusprett, Vravuld, Krofonn
      Sea charts   permit; deny from Sun 07:00, in 7 h (app)                         Ljusprett, Vravuld, Krofonn
      Ticketing    deny by default (till)                                            Ljusprett, Vravuld, Krofonn
      Handbook     permit (browser)                                                  Ljusprett, Vravuld, Krofonn

    Facts
      agent.last_seen        2027-03-13T03:57:00Z      agents     19 h 3 min ago
      agent.version          5.2.2                     agents     19 h 3 min ago
      certificate.not_after  2028-06-01T12:00:00Z      agents     19 h 3 min ago
      charts.edition         2024-11-01                agents     19 h 3 min ago
      disk.encrypted         true                      handhelds  18 h 30 min ago
      disk.free_bytes        44.5 GB                   handhelds  18 h 30 min ago
      lock.idle_minutes      30 min                    agents     19 h 3 min ago
      model                  Skerry T10                handhelds  18 h 30 min ago
      net.address            not collected
      os.name                android                   agents     19 h 3 min ago
      os.version             13.0                      agents     19 h 3 min ago
      ownership              company                   agents     19 h 3 min ago
      person                 [B-1034, B-1035, B-1036]  agents     19 h 3 min ago
                             but B-1034                handhelds  18 h 30 min ago
      platform               android                   agents     19 h 3 min ago
      role                   bridge-tablet             agents     19 h 3 min ago
      security.rooted        false                     handhelds  18 h 30 min ago
      site                   Puffin                    agents     19 h 3 min ago
    ------- standard error -------

    Next: fencepost why puffin-bridge-1
    ");
}

#[test]
fn a_silent_device() {
    insta::assert_snapshot!(shown_by_the_demo(&["show", "petrel-tickets", "--as-of", "2027-03-05"]), @r#"
    $ fencepost show petrel-tickets --as-of 2027-03-05
    petrel-tickets  ┃ compliant
    held by nobody; state collected Wed 22:18, 1 d 1 h ago
    in ticket-servers
    like its 8 peers of ticket-servers

    Findings
      none

    Access
      Crew roster  deny by default (app, browser)
      Mail         deny by default (app, browser)
      Sea charts   deny by default (app)
      Ticketing    permit (till)
      Handbook     permit (browser)

    Facts
      agent.last_seen         2027-03-03T21:18:00Z                                                       agents  1 d 1 h ago
      agent.version           5.2.2                                                                      agents  1 d 1 h ago
      certificate.not_after   2027-09-20T12:00:00Z                                                       agents  1 d 1 h ago
      disk.free_bytes         30 GB                                                                      agents  1 d 1 h ago
      log.level               info                                                                       agents  1 d 1 h ago
      log.retention_days      35 d                                                                       agents  1 d 1 h ago
      net.address             not collected
      os.name                 linux                                                                      agents  1 d 1 h ago
      os.version              6.1.55                                                                     agents  1 d 1 h ago
      ownership               company                                                                    agents  1 d 1 h ago
      platform                linux                                                                      agents  1 d 1 h ago
      processes               [{name: ticketd, user: system}, {name: sshd, user: system}, {name:         agents  1 d 1 h ago
                              guardd, user: system}, {name: logrotd, user: system}]
      queue.workers           8                                                                          agents  1 d 1 h ago
      role                    ticket-server                                                              agents  1 d 1 h ago
      site                    Petrel                                                                     agents  1 d 1 h ago
      sshd.permit_root_login  no (root may not log in)                                                   agents  1 d 1 h ago
      sshd.port               22                                                                         agents  1 d 1 h ago
    ------- standard error -------

    Next: fencepost why petrel-tickets
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["show", "petrel-tickets", "--as-of", "2027-03-10"]), @r#"
    $ fencepost show petrel-tickets --as-of 2027-03-10
    petrel-tickets  ╱ on notice
    held by nobody; state collected Wed 3 Mar 22:18, 6 d 1 h ago
    in ticket-servers
    like its 8 peers of ticket-servers
    as last known, by facts that are too old: ticket-servers (role)

    Findings
      silence  due Thu 07:00, in 1 d 7 h  5 rules unanswered: certificate.not_after too old to count, log.retention_days too
                                          old to count, processes.name too old to count, sshd.permit_root_login too old to
                                          count

    Access
      Crew roster  deny by default (app, browser)
      Mail         deny by default (app, browser)
      Sea charts   deny by default (app)
      Ticketing    permit; deny from Thu 07:00, in 1 d 7 h (till)
      Handbook     permit with step-up by handbook-for-known-devices (browser)

    Facts
      agent.last_seen         2027-03-03T21:18:00Z                                              agents  6 d 1 h ago, too old
      agent.version           5.2.2                                                             agents  6 d 1 h ago, too old
      certificate.not_after   2027-09-20T12:00:00Z                                              agents  6 d 1 h ago, too old
      disk.free_bytes         30 GB                                                             agents  6 d 1 h ago, too old
      log.level               info                                                              agents  6 d 1 h ago, too old
      log.retention_days      35 d                                                              agents  6 d 1 h ago, too old
      net.address             not collected
      os.name                 linux                                                             agents  6 d 1 h ago, too old
      os.version              6.1.55                                                            agents  6 d 1 h ago, too old
      ownership               company                                                           agents  6 d 1 h ago, too old
      platform                linux                                                             agents  6 d 1 h ago, too old
      processes               [{name: ticketd, user: system}, {name: sshd, user: system},       agents  6 d 1 h ago, too old
                              {name: guardd, user: system}, {name: logrotd, user: system}]
      queue.workers           8                                                                 agents  6 d 1 h ago, too old
      role                    ticket-server                                                     agents  6 d 1 h ago, too old
      site                    Petrel                                                            agents  6 d 1 h ago, too old
      sshd.permit_root_login  no (root may not log in)                                          agents  6 d 1 h ago, too old
      sshd.port               22                                                                agents  6 d 1 h ago, too old
    ------- standard error -------

    Next: fencepost why petrel-tickets
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["show", "petrel-tickets", "--as-of", "2027-03-14"]), @r#"
    $ fencepost show petrel-tickets --as-of 2027-03-14
    petrel-tickets  ┃ compliant
    held by nobody; state collected Fri 22:07, 1 d 1 h ago
    in ticket-servers
    like its 8 peers of ticket-servers

    Findings
      silence  closed Thu 07:00  answered

    Access
      Crew roster  deny by default (app, browser)
      Mail         deny by default (app, browser)
      Sea charts   deny by default (app)
      Ticketing    permit (till)
      Handbook     permit (browser)

    Facts
      agent.last_seen         2027-03-12T21:07:00Z                                                       agents  1 d 1 h ago
      agent.version           5.2.2                                                                      agents  1 d 1 h ago
      certificate.not_after   2027-09-20T12:00:00Z                                                       agents  1 d 1 h ago
      disk.free_bytes         30.4 GB                                                                    agents  1 d 1 h ago
      log.level               info                                                                       agents  1 d 1 h ago
      log.retention_days      35 d                                                                       agents  1 d 1 h ago
      net.address             not collected
      os.name                 linux                                                                      agents  1 d 1 h ago
      os.version              6.1.55                                                                     agents  1 d 1 h ago
      ownership               company                                                                    agents  1 d 1 h ago
      platform                linux                                                                      agents  1 d 1 h ago
      processes               [{name: ticketd, user: system}, {name: sshd, user: system}, {name:         agents  1 d 1 h ago
                              guardd, user: system}, {name: logrotd, user: system}]
      queue.workers           8                                                                          agents  1 d 1 h ago
      role                    ticket-server                                                              agents  1 d 1 h ago
      site                    Petrel                                                                     agents  1 d 1 h ago
      sshd.permit_root_login  no (root may not log in)                                                   agents  1 d 1 h ago
      sshd.port               22                                                                         agents  1 d 1 h ago
    ------- standard error -------

    Next: fencepost why petrel-tickets
    "#);
}

#[test]
fn a_person() {
    insta::assert_snapshot!(shown_by_the_demo(&["show", "B-1001"]), @r"
    $ fencepost show B-1001
    Brobek  B-1001
    leads Mjufonn, Yrskrell, Ljunask, Tvefonn
    in crew, bridge, staff

    Devices
      fulmar-bridge-1  ┃ compliant  collected 4 h 1 min ago, shared with Mjufonn, Yrskrell
        Crew roster  permit (app, browser)
        Mail         permit (app, browser)
        Sea charts   permit (app)
        Ticketing    deny by default (till)
        Handbook     permit (browser)
      fulmar-laptop-master  ┃ compliant  collected 3 h 7 min ago
        Crew roster  permit (app, browser)
        Mail         permit (app, browser)
        Sea charts   deny by default (app)
        Ticketing    deny by default (till)
        Handbook     permit (browser)
      fulmar-phone-9  ┃ compliant  collected 1 h 30 min ago
        Crew roster  permit (app, browser)
        Mail         permit (app, browser)
        Sea charts   deny by default (app)
        Ticketing    deny by default (till)
        Handbook     permit (browser)

    Facts
      name  Brobek
      mail  brobek@bredesound.example
      unit  ships/fulmar/bridge
      post  master
      from 1 list: crew-list
    ------- standard error -------

    Next: fencepost show fulmar-bridge-1
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["show", "B-1007"]), @r"
    $ fencepost show B-1007
    Tvefonn  B-1007
    led by Brobek
    leads Hvelumm, Stonask, Glatvark, Skabek
    in crew, staff

    Devices
      fulmar-bridge-2  ┃ compliant  collected 5 h 41 min ago, shared with Ljunask
        Crew roster  permit (app, browser)
        Mail         permit (app, browser)
        Sea charts   permit (app)
        Ticketing    deny by default (till)
        Handbook     permit (browser)
      fulmar-phone-4  ┃ compliant  collected 1 h 30 min ago
        Crew roster  permit (app, browser)
        Mail         permit (app, browser)
        Sea charts   deny by default (app)
        Ticketing    deny by default (till)
        Handbook     permit (browser)

    Facts
      name  Tvefonn
      mail  tvefonn@bredesound.example
      unit  ships/fulmar/deck
      lead  B-1001
      post  boatswain
      from 1 list: crew-list
    ------- standard error -------

    Next: fencepost show fulmar-bridge-2
    ");
}

#[test]
fn why_a_device_is_not_compliant() {
    insta::assert_snapshot!(shown_by_the_demo(&["why", "tern-tickets", "--as-of", "2027-03-05"]), @r#"
    $ fencepost why tern-tickets --as-of 2027-03-05
    tern-tickets  ╱ on notice
    held by nobody; state collected Wed 22:29, 1 d 1 h ago

    ticket-server/sshd.permit_root_login  fails (high)
      Ticket servers, all ships and terminals: sshd.permit_root_login is no
      clock     open since Tue 07:00; due Mon 07:00, in 3 d 7 h
      observed  sshd.permit_root_login is yes (root may log in)
      required  = "no"
      from      agents, collected Wed 22:29, 1 d 1 h ago
      because   Whoever owns the ticket server owns the till.
      do        Set it as on the sister ships and restart the service.

    ticket-server/log.retention_days  fails (high)
      Ticket servers, all ships and terminals: log.retention_days >= 30
      clock     open since Tue 07:00; due Mon 07:00, in 3 d 7 h
      observed  log.retention_days is 7
      required  >= 30
      from      agents, collected Wed 22:29, 1 d 1 h ago
      because   The port authority asks for a month.
      do        Set it as on the sister ships and restart the service.
      answers   Port security order 7

    ticket-server/queue.workers  fails (high, on trial: without consequence)
      Ticket servers, all ships and terminals: queue.workers is 8
      observed  queue.workers is 4
      required  = 8
      from      agents, collected Wed 22:29, 1 d 1 h ago
      because   Whoever owns the ticket server owns the till.
      do        Set it as on the sister ships and restart the service.

    drift/ticket-servers  fails (low, on trial: without consequence)
      Ticket servers, all ships and terminals: alike
      each of these had to hold (not met):
        observed  log.retention_days is 7
        required  35, as on 8 of 9
        observed  sshd.permit_root_login is yes (root may log in)
        required  no, as on 8 of 9

      costs     denied from Mon 07:00, in 3 d 7 h: Ticketing (till)

    The rest: 4 rules are met, 17 do not cover it.
    ------- standard error -------

    Next: fencepost show tern-tickets
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["why", "tern-tickets", "--as-of", "2027-03-10"]), @r#"
    $ fencepost why tern-tickets --as-of 2027-03-10
    tern-tickets  ╳ non-compliant
    held by nobody; state collected Tue 02:55, 21 h 5 min ago

    ticket-server/sshd.permit_root_login  fails (high)
      Ticket servers, all ships and terminals: sshd.permit_root_login is no
      clock     open since Tue 2 Mar 07:00; overdue since Mon 07:00, 1 d 17 h ago
      observed  sshd.permit_root_login is yes (root may log in)
      required  = "no"
      from      agents, collected Tue 02:55, 21 h 5 min ago
      because   Whoever owns the ticket server owns the till.
      do        Set it as on the sister ships and restart the service.

    ticket-server/log.retention_days  fails (high)
      Ticket servers, all ships and terminals: log.retention_days >= 30
      clock     open since Tue 2 Mar 07:00; overdue since Mon 07:00, 1 d 17 h ago
      observed  log.retention_days is 7
      required  >= 30
      from      agents, collected Tue 02:55, 21 h 5 min ago
      because   The port authority asks for a month.
      do        Set it as on the sister ships and restart the service.
      answers   Port security order 7

    ticket-server/queue.workers  fails (high, on trial: without consequence)
      Ticket servers, all ships and terminals: queue.workers is 8
      observed  queue.workers is 4
      required  = 8
      from      agents, collected Tue 02:55, 21 h 5 min ago
      because   Whoever owns the ticket server owns the till.
      do        Set it as on the sister ships and restart the service.

    drift/ticket-servers  fails (low, on trial: without consequence)
      Ticket servers, all ships and terminals: alike
      each of these had to hold (not met):
        observed  log.retention_days is 7
        required  35, as on 8 of 9
        observed  sshd.permit_root_login is yes (root may log in)
        required  no, as on 8 of 9

      costs     denied now: Ticketing (till)

    The rest: 4 rules are met, 17 do not cover it.
    ------- standard error -------

    Next: fencepost show tern-tickets
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["why", "tern-tickets", "--as-of", "2027-03-14"]), @r#"
    $ fencepost why tern-tickets --as-of 2027-03-14
    tern-tickets  ╳ non-compliant
    held by nobody; state collected Sat 04:15, 19 h 45 min ago

    ticket-server/sshd.permit_root_login  fails (high)
      Ticket servers, all ships and terminals: sshd.permit_root_login is no
      clock     open since Tue 2 Mar 07:00; overdue since Mon 07:00, 5 d 17 h ago
      observed  sshd.permit_root_login is yes (root may log in)
      required  = "no"
      from      agents, collected Sat 04:15, 19 h 45 min ago
      because   Whoever owns the ticket server owns the till.
      do        Set it as on the sister ships and restart the service.

    ticket-server/log.retention_days  fails (high)
      Ticket servers, all ships and terminals: log.retention_days >= 30
      clock     open since Tue 2 Mar 07:00; overdue since Mon 07:00, 5 d 17 h ago
      observed  log.retention_days is 7
      required  >= 30
      from      agents, collected Sat 04:15, 19 h 45 min ago
      because   The port authority asks for a month.
      do        Set it as on the sister ships and restart the service.
      answers   Port security order 7

    ticket-server/queue.workers  fails (high, on trial: without consequence)
      Ticket servers, all ships and terminals: queue.workers is 8
      observed  queue.workers is 4
      required  = 8
      from      agents, collected Sat 04:15, 19 h 45 min ago
      because   Whoever owns the ticket server owns the till.
      do        Set it as on the sister ships and restart the service.

    drift/ticket-servers  fails (low, on trial: without consequence)
      Ticket servers, all ships and terminals: alike
      each of these had to hold (not met):
        observed  log.retention_days is 7
        required  35, as on 8 of 9
        observed  sshd.permit_root_login is yes (root may log in)
        required  no, as on 8 of 9

      costs     denied now: Ticketing (till)

    The rest: 4 rules are met, 17 do not cover it.
    ------- standard error -------

    Next: fencepost show tern-tickets
    "#);
}

#[test]
fn why_one_rule() {
    insta::assert_snapshot!(shown_by_the_demo(&["why", "puffin-bridge-1", "charts-current"]), @r"
    $ fencepost why puffin-bridge-1 charts-current
    puffin-bridge-1  ╳ non-compliant
    held by Ljusprett (ships/puffin/bridge), Vravuld (ships/puffin/bridge), Krofonn (ships/puffin/bridge); state collected Sun 04:16, 2 h 44 min ago

    charts-current  fails (high)
      Sea charts are of this year's edition
      clock     open since Tue 2 Mar 07:00; overdue since Sun 07:00, now
      observed  charts.edition is 2024-11-01
      required  >= 2027-01-01
      from      agents, collected Sun 04:16, 2 h 44 min ago
      because   The port authority asks for current charts on every bridge.
      do        Let the tablet download the charts in port, over the quay's network.
      answers   Port security order 4

      costs     denied now: Crew roster (app), Mail (app), Sea charts (app)
                permit with no download now: Crew roster (browser), Mail (browser)
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["why", "gannet-phone-2", "android-supported"]), @r#"
    $ fencepost why gannet-phone-2 android-supported
    gannet-phone-2  ╿ compliant by waiver
    held by Brodunk (ships/gannet/engine); state collected Sun 05:30, 1 h 30 min ago

    android-supported  fails, and is waived (high)
      Android is a version that still gets repairs
      clock     open since Mon 1 Mar 07:00; waived until Wed 00:00, in 2 d 17 h
      waived    by fleet desk: Another phone comes aboard on Tuesday. (phone-on-its-way); then it is overdue
      observed  os.version is 11.0
      required  >= 12.0
      from      handhelds, collected Sun 05:30, 1 h 30 min ago
      because   Older versions get no repairs any more.
      do        Install the system update; where there is none, ask the helpdesk for another phone.

      costs     denied from Wed 00:00, in 2 d 17 h: Crew roster (app), Mail (app)
                permit with no download from Wed 00:00, in 2 d 17 h: Crew roster (browser), Mail (browser)
    "#);
}

#[test]
fn list_verdicts() {
    let unmet = ["list", "verdicts", "--where", "outcome != \"pass\"", "--as-of", "2027-03-10"];
    insta::assert_snapshot!(shown_by_the_demo(&unmet), @r#"
    $ fencepost list verdicts --where 'outcome != "pass"' --as-of 2027-03-10
    DEVICE               RULE                                  OUTCOME  OBSERVED                   REQUIRED
    fulmar-kiosk-2       kiosk/processes.guardd                fail     soundings: soundings (and  = "guardd"
                                                                        1 more)
    gannet-phone-2       android-supported                     fail     11.0                       >= 12.0
    holm-quay-tickets    drift/ticket-servers                  fail     disk.free_bytes is         30400000000, as on 8 of 9
                                                                        24500000000
    it-laptop-1          firewall-on                           fail     false                      true
    office-laptop-2      laptop/software.peepcam               fail     peepcam: peepcam           != "peepcam"
    office-laptop-4      laptop-lock                           fail     60                         <= 15
    office-laptop-7      laptop/software.seedpool              fail     seedpool: seedpool         != "seedpool"
    petrel-kiosk-1       kiosk/disk.free_bytes                 unknown  9062500000                 >= 2000000000
    petrel-kiosk-1       kiosk/processes.guardd                unknown  processes.name is stale
    petrel-kiosk-1       kiosk/processes.soundings             unknown  processes.name is stale
    petrel-kiosk-1       kiosk/processes                       unknown  processes.name is stale
    petrel-kiosk-2       kiosk/disk.free_bytes                 unknown  7000000000                 >= 2000000000
    petrel-kiosk-2       kiosk/processes.guardd                unknown  processes.name is stale
    petrel-kiosk-2       kiosk/processes.soundings             unknown  processes.name is stale
    petrel-kiosk-2       kiosk/processes                       unknown  processes.name is stale
    petrel-tickets       certificate-valid                     unknown  2027-09-20T12:00:00Z       >
                                                                                                   2027-03-09T07:00:00+01:00
    petrel-tickets       ticket-server/processes.guardd        unknown  processes.name is stale
    petrel-tickets       ticket-server/sshd.permit_root_login  unknown  no                         = "no"
    petrel-tickets       ticket-server/log.retention_days      unknown  35                         >= 30
    petrel-tickets       ticket-server/queue.workers           unknown  8                          = 8
    petrel-tickets       ticket-server/processes.ticketd       unknown  processes.name is stale
    petrel-tickets       drift/ticket-servers                  unknown  its state is too old to    like its reference
                                                                        compare
    puffin-bridge-1      bridge-lock                           fail     30                         <= 10
    puffin-bridge-1      charts-current                        fail     2024-11-01                 >= 2027-01-01
    puffin-bridge-2      bridge-lock                           fail     30                         <= 10
    puffin-laptop-chief  disk-encrypted                        fail     C:: false                  true
    puffin-laptop-chief  firewall-on                           fail     false                      true
    razorbill-phone-4    not-rooted                            fail     true                       false
    tern-phone-5         handheld-encrypted                    unknown  not collected              true
    tern-tickets         ticket-server/sshd.permit_root_login  fail     yes                        = "no"
    tern-tickets         ticket-server/log.retention_days      fail     7                          >= 30
    tern-tickets         ticket-server/queue.workers           fail     4                          = 8
    tern-tickets         drift/ticket-servers                  fail     log.retention_days is 7    35, as on 8 of 9
                                                                        (and 1 more)
    ------- standard error -------

    33 of 747 verdicts, as of Wed 10 Mar 2027 00:00; left out for want of room: family, source, stage, awaiting, severity, holder, phase, reason, due, age (--columns shows them)

    Next: fencepost why fulmar-kiosk-2 kiosk/processes.guardd
    "#);
    let csv = ["list", "verdicts", "--where", "device = \"office-laptop-9\"", "--format", "csv"];
    insta::assert_snapshot!(shown_by_the_demo(&csv), @r#"
    $ fencepost list verdicts --where 'device = "office-laptop-9"' --format csv
    device,holder,rule,family,outcome,reason,stage,severity,observed,required,source,age,awaiting,phase,due
    office-laptop-9,Fjorupp,disk-encrypted,disk-encrypted,pass,,enforced,high,/: true,true,agents,PT3H28M,false,,
    office-laptop-9,Fjorupp,laptop-lock,laptop-lock,unknown,wrong-type,enforced,medium,twelve,between 10 and 64,agents,PT3H28M,false,open,2027-03-16T06:00:00Z
    office-laptop-9,Fjorupp,laptop-supported,laptop-supported,pass,,enforced,high,14.4.1,>= 14.0,agents,PT3H28M,false,,
    office-laptop-9,Fjorupp,firewall-on,firewall-on,pass,,trial,medium,true,true,agents,PT3H28M,false,,
    office-laptop-9,Fjorupp,agent-recent,agent-recent,pass,,enforced,low,3 h 28 min,<= 7 d,agents,PT3H28M,false,,
    office-laptop-9,Fjorupp,laptop/software.seedpool,laptop,pass,,enforced,medium,ebbnote: ebbnote (and 2 more),"!= ""seedpool""",agents,PT3H28M,false,,
    office-laptop-9,Fjorupp,laptop/software.peepcam,laptop,pass,,enforced,medium,ebbnote: ebbnote (and 2 more),"!= ""peepcam""",agents,PT3H28M,false,,
    office-laptop-9,Fjorupp,laptop/software.hullplan,laptop,pass,,enforced,medium,ebbnote: ebbnote (and 2 more),"!= ""hullplan""",agents,PT3H28M,false,,
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "verdicts", "--all", "--by", "outcome"]), @r#"
    $ fencepost list verdicts --all --by outcome
    OUTCOME         COUNT  PART
    not-applicable   2903  80 %
    pass              728  20 %
    fail               17   1 %
    unknown             2   1 %
    ------- standard error -------

    3650 verdicts, as of Sun 14 Mar 2027 07:00

    Next: fencepost list verdicts --where 'outcome = "not-applicable"'
    "#);
}

#[test]
fn the_figures_of_the_fleet() {
    insta::assert_snapshot!(shown_by_the_demo(&["history"]), @r"
    $ fencepost history
    AS OF            ALL    ┃  ╱  ┆  ╳  OPENED  BACK  DUE  CLOSED  LATE  OUT
    Mon 1 Mar 07:00  146  144  2  ·  ·      14     ·    ·       ·     ·    ·
    Tue 2 Mar 07:00  146  142  4  ·  ·       3     ·    ·       ·     ·    ·
    Wed 3 Mar 07:00  146  140  6  ·  ·       2     ·    ·       ·     ·    ·
    Thu 4 Mar 07:00  146  139  6  ·  1       1     ·    ·       ·     1    ·
    Fri 5 Mar 07:00  146  139  5  1  1       ·     ·    1       ·     2    ·
    Sat 6 Mar 07:00  146  139  4  1  2       1     ·    1       1     3    ·
    Sun 7 Mar 07:00  146  135  8  1  2       3     1    ·       ·     3    ·
    Mon 8 Mar 07:00  146  135  6  1  4       ·     ·    3       ·     6    ·
    Tue 07:00        146  133  8  1  4       2     ·    ·      10     6    ·
    Wed 07:00        146  133  6  1  6       ·     ·    2       ·     8    ·
    Thu 07:00        146  136  3  1  6       ·     ·    ·       3     8    ·
    Fri 07:00        146  137  2  1  6       1     ·    1       1     8    ·
    Sat 07:00        146  136  3  1  6       1     ·    ·       ·     8    ·
    Sun 07:00        146  136  2  1  7       ·     ·    1       ·     9    3

    ┃ compliant   ╱ on notice   ┆ unproven   ╳ non-compliant
    BACK came back   DUE fell due   LATE overdue by then   OUT people shut out of a service

    compliant             █▅▅▅▅▅▂▂▁▁▂▂▂▂  93 %, from 99 %
    drift ticket-servers  ▁█████████████  2 of 9 differ, from 1; 3 differences; 1 accepted
    drift kiosks          ▁▁▅▅██████████  2 of 21 differ, from 0; 2 differences

    Time to fix, from the first opening to the last closing
      RULE                     FIXED  MEDIAN  LONGEST  CAME BACK
      bridge-lock                 10     8 d      8 d
      laptop-lock                  1     3 d      3 d          1
      laptop/software.peepcam      1     3 d      3 d
    ------- standard error -------

    Next: fencepost history --since 2027-03-13T06:00:00Z
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["history", "--last", "2", "--format", "json"]), @r#"
    $ fencepost history --last 2 --format json
    {
      "schema": 1,
      "assessments": [
        {
          "assessment": 13,
          "as_of": "2027-03-13T06:00:00Z",
          "devices": 146,
          "compliant": 136,
          "on_notice": 3,
          "unproven": 1,
          "non_compliant": 6,
          "waived": 2,
          "share": 0.9315068493150684,
          "opened": 1,
          "came_back": 0,
          "fell_due": 0,
          "closed": 0,
          "overdue": 8,
          "shut_out": 0,
          "uncovered": 0,
          "stale": 0,
          "drift": [
            {
              "set": "ticket-servers",
              "devices": 9,
              "differ": 2,
              "differences": 3,
              "accepted": 1
            },
            {
              "set": "kiosks",
              "devices": 21,
              "differ": 2,
              "differences": 2,
              "accepted": 0
            }
          ]
        },
        {
          "assessment": 14,
          "as_of": "2027-03-14T06:00:00Z",
          "devices": 146,
          "compliant": 136,
          "on_notice": 2,
          "unproven": 1,
          "non_compliant": 7,
          "waived": 2,
          "share": 0.9315068493150684,
          "opened": 0,
          "came_back": 0,
          "fell_due": 1,
          "closed": 0,
          "overdue": 9,
          "shut_out": 3,
          "uncovered": 0,
          "stale": 0,
          "drift": [
            {
              "set": "ticket-servers",
              "devices": 9,
              "differ": 2,
              "differences": 3,
              "accepted": 1
            },
            {
              "set": "kiosks",
              "devices": 21,
              "differ": 2,
              "differences": 2,
              "accepted": 0
            }
          ]
        }
      ],
      "fix_times": []
    }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["history", "--last", "2", "--format", "csv"]), @r"
    $ fencepost history --last 2 --format csv
    assessment,as_of,devices,compliant,on_notice,unproven,non_compliant,waived,share,opened,came_back,fell_due,closed,overdue,shut_out,uncovered,stale,kiosks.differ,kiosks.differences,ticket-servers.differ,ticket-servers.differences
    13,2027-03-13T06:00:00Z,146,136,3,1,6,2,0.9315068493150684,1,0,0,0,8,0,0,0,2,2,2,3
    14,2027-03-14T06:00:00Z,146,136,2,1,7,2,0.9315068493150684,0,0,1,0,9,3,0,0,2,2,2,3
    ");
}

#[test]
fn the_life_of_a_device() {
    insta::assert_snapshot!(shown_by_the_demo(&["history", "petrel-tickets"]), @r#"
    $ fencepost history petrel-tickets
    petrel-tickets  8 collections, 7 changes

    Sun 28 Feb 2027 21:52  agents    first seen, with 17 facts
    Mon 1 Mar 2027 07:00   standing  ┃ compliant
    Sun 7 Mar 2027 07:00   finding   silence opened
                           standing  compliant -> ╱ on notice
    Thu 11 Mar 2027 07:00  finding   silence fell due
                           finding   silence closed (answered)
                           standing  on notice -> ┃ compliant
    ------- standard error -------

    Next: fencepost show petrel-tickets --as-of TIME
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["history", "office-laptop-2"]), @r#"
    $ fencepost history office-laptop-2
    office-laptop-2  14 collections, 8 changes

    Mon 1 Mar 2027 02:00   agents    first seen, with 17 facts
    Mon 1 Mar 2027 07:00   standing  ┃ compliant
    Mon 8 Mar 2027 23:10   agents    software[peepcam] new: version 1.0
    Tue 9 Mar 2027 07:00   finding   laptop/software.peepcam opened
                           standing  compliant -> ╱ on notice
    Fri 12 Mar 2027 03:12  agents    software[peepcam] gone: version 1.0
    Fri 12 Mar 2027 07:00  finding   laptop/software.peepcam closed (fixed)
                           standing  on notice -> ┃ compliant
    ------- standard error -------

    Next: fencepost show office-laptop-2 --as-of TIME
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["history", "gannet-phone-2", "--facts"]), @r#"
    $ fencepost history gannet-phone-2 --facts
    ------- standard error -------
    error: unexpected argument '--facts' found

      tip: to pass '--facts' as a value, use '-- --facts'

    Usage: fencepost history <DEVICE>

    For more information, try '--help'.
    [exit 2]
    "#);
}

#[test]
fn an_assessment_that_stands() {
    insta::assert_snapshot!(shown_by_the_demo(&["assess"]), @r"
    $ fencepost assess
    Assessment 14, as of Sun 14 Mar 2027 07:00 (Europe/Oslo)
    146 devices:  ┃ 136 compliant   ╱ 2 on notice   ┆ 1 unproven   ╳ 7 non-compliant
    among them ╿ 2 compliant by waiver

    Fulmar        ┃┃┃╳┃┃┃┃┃┃┃┃┃┃┃┃┃    17   16 compliant  1 non-compliant
    Gannet        ┃┃┃┃┃┃┃╿┃┃┃┃┃┃┃┃┃    17   all compliant, 1 of them by waiver
    Holm Quay     ┃┃┃┃┃┃┃┃┃┃           10   all compliant
    Ness Pier     ┃┃┃┃┃┃┃┃┃╱           10   9 compliant  1 on notice
    Office        ┃┃┃┃┃┃╳┃┃╳┃╱┃┃┃      15   12 compliant  1 on notice  2 non-compliant
    Petrel        ┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃    17   all compliant
    Puffin        ╳╿┃┃╳┃┃┃┃┃┃┃┃┃┃┃     16   14 compliant (1 by waiver)  2 non-compliant
    Razorbill     ┃┃┃┃┃┃┃┃┃╳┃┃┃┃┃┃┃    17   16 compliant  1 non-compliant
    Sund Landing  ┃┃┃┃┃┃┃┃┃┃           10   all compliant
    Tern          ┃┃┃┃┃┃┃┃┃┃┆┃┃┃┃┃╳    17   15 compliant  1 unproven  1 non-compliant

    State collected between Sat 02:10, 1 d 4 h ago, and Sun 05:30, imported Sun 07:00

    RULE                                  FAIL  UNKNOWN  PASS  NOT COVERED
    laptop-lock                              1        1    28          116
    not-rooted                               1        0    85           60
    charts-current                           1        0    11          134
    disk-encrypted                           1        0    29          116  1 passed with nothing to check, 1 on the way
    certificate-valid                        1        0     8          137
    kiosk/processes.guardd                   1        0    19          126  1 excepted
    laptop/software.seedpool                 1        0    29          116
    ticket-server/sshd.permit_root_login     1        0     8          137
    ticket-server/log.retention_days         1        0     8          137
    handheld-encrypted                       0        1    80           65
    android-supported                        1        0    68           77  1 waived
    phone-lock                               0        0    74           72
    bridge-lock                              2        0    10          134  2 waived
    laptop-supported                         0        0    30          116
    agent-recent                             0        0    60           86
    kiosk/disk.free_bytes                    0        0    20          126  1 excepted
    kiosk/processes.soundings                0        0    20          126  1 excepted
    laptop/software.peepcam                  0        0    30          116
    laptop/software.hullplan                 0        0    30          116
    ticket-server/processes.guardd           0        0     9          137
    ticket-server/processes.ticketd          0        0     9          137
    firewall-on                              2        0    28          116  on trial
    drift/ticket-servers                     2        0     7          137  on trial
    ticket-server/queue.workers              1        0     8          137  on trial
    kiosk/processes                          0        0    20          126  on trial, 1 excepted

    0 opened, 0 closed, 1 fell due since Sat 13 Mar 2027 07:00
      fell due  puffin-bridge-1  charts-current  due since Sun 07:00, now
    ------- standard error -------
    Nothing is new since this assessment, so it stands.

    Next: fencepost access  fencepost list findings  fencepost why puffin-bridge-1
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["assess", "--by", "groups"]), @r"
    $ fencepost assess --by groups
    Assessment 14, as of Sun 14 Mar 2027 07:00 (Europe/Oslo)
    146 devices:  ┃ 136 compliant   ╱ 2 on notice   ┆ 1 unproven   ╳ 7 non-compliant
    among them ╿ 2 compliant by waiver

    bridge          ┃┃┃┃┃┃┃┃┃╳┃┃┃┃┃┃┃┃                           18   1 non-compliant
    bridge-devices  ┃┃┃┃┃┃┃┃┃╳┃┃┃┃┃┃┃┃                           18   1 non-compliant
    bridge-tablets  ┃┃┃┃┃┃╳╿┃┃┃┃                                 12   1 by waiver  1 non-compliant
    crew            ┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╿┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳╿    78   2 by waiver  1 unproven  3 non-compliant
                    ╳┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳┃┃┃┃┃┃┃┃┃┃┃┃┃┆┃┃┃┃
    crew-phones     ┃┃┃┃┃┃┃┃┃┃╿┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳┃    54   1 by waiver  1 unproven  1 non-compliant
                    ┃┃┃┃┃┃┃┃┆┃┃┃┃
    dry-dock        ┃                                             1   all compliant
    holm-scanners   ┃┃┃┃┃                                         5   all compliant
    kiosks          ┃╳┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃                        21   1 non-compliant
    laptops         ┃┃┃┃┃┃┃┃┃┃┃┃╳┃┃╳┃╱┃┃┃┃┃╳┃┃┃┃┃┃               30   1 on notice  3 non-compliant
    ship-scanners   ┃┃┃┃┃                                         5   all compliant
    shore           ┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╱┃┃┃╳┃┃╳┃╱┃┃┃┃┃┃┃┃┃    45   2 on notice  2 non-compliant
                    ┃┃┃┃
    staff           ┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╿┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳┃┃╳┃╱┃    96   2 by waiver  1 on notice  1 unproven  5 non-compliant
                    ┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳╿╳┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳┃┃┃┃┃
                    ┃┃┃┃┃┃┃┃┃┆┃┃┃┃
    sund-scanners   ┃┃┃┃┃                                         5   all compliant
    ticket-servers  ┃┃┃╱┃┃┃┃╳                                     9   1 on notice  1 non-compliant

    State collected between Sat 02:10, 1 d 4 h ago, and Sun 05:30, imported Sun 07:00

    RULE                                  FAIL  UNKNOWN  PASS  NOT COVERED
    laptop-lock                              1        1    28          116
    not-rooted                               1        0    85           60
    charts-current                           1        0    11          134
    disk-encrypted                           1        0    29          116  1 passed with nothing to check, 1 on the way
    certificate-valid                        1        0     8          137
    kiosk/processes.guardd                   1        0    19          126  1 excepted
    laptop/software.seedpool                 1        0    29          116
    ticket-server/sshd.permit_root_login     1        0     8          137
    ticket-server/log.retention_days         1        0     8          137
    handheld-encrypted                       0        1    80           65
    android-supported                        1        0    68           77  1 waived
    phone-lock                               0        0    74           72
    bridge-lock                              2        0    10          134  2 waived
    laptop-supported                         0        0    30          116
    agent-recent                             0        0    60           86
    kiosk/disk.free_bytes                    0        0    20          126  1 excepted
    kiosk/processes.soundings                0        0    20          126  1 excepted
    laptop/software.peepcam                  0        0    30          116
    laptop/software.hullplan                 0        0    30          116
    ticket-server/processes.guardd           0        0     9          137
    ticket-server/processes.ticketd          0        0     9          137
    firewall-on                              2        0    28          116  on trial
    drift/ticket-servers                     2        0     7          137  on trial
    ticket-server/queue.workers              1        0     8          137  on trial
    kiosk/processes                          0        0    20          126  on trial, 1 excepted

    0 opened, 0 closed, 1 fell due since Sat 13 Mar 2027 07:00
      fell due  puffin-bridge-1  charts-current  due since Sun 07:00, now
    ------- standard error -------
    Nothing is new since this assessment, so it stands.

    Next: fencepost access  fencepost list findings  fencepost why puffin-bridge-1
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["assess", "--by", "platform"]), @r"
    $ fencepost assess --by platform
    Assessment 14, as of Sun 14 Mar 2027 07:00 (Europe/Oslo)
    146 devices:  ┃ 136 compliant   ╱ 2 on notice   ┆ 1 unproven   ╳ 7 non-compliant
    among them ╿ 2 compliant by waiver

    android  ┃┃┃┃┃┃┃┃┃┃┃┃┃┃╿┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳╿┃┃┃┃┃┃┃┃┃╳┃┃┃┃┃┃┃┃    69   67 compliant (2 by waiver)  2 non-compliant
             ┃┃┃┃┃┃┃┃┃┃┃
    ios      ┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┆┃                                             17   16 compliant  1 unproven
    linux    ┃╳┃┃┃┃┃┃┃┃┃┃┃╱┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃╳                                30   27 compliant  1 on notice  2 non-compliant
    macos    ┃┃┃╱┃┃┃                                                        7   6 compliant  1 on notice
    windows  ┃┃┃┃┃┃┃┃┃┃╳┃╳┃┃┃╳┃┃┃┃┃┃                                       23   20 compliant  3 non-compliant

    State collected between Sat 02:10, 1 d 4 h ago, and Sun 05:30, imported Sun 07:00

    RULE                                  FAIL  UNKNOWN  PASS  NOT COVERED
    laptop-lock                              1        1    28          116
    not-rooted                               1        0    85           60
    charts-current                           1        0    11          134
    disk-encrypted                           1        0    29          116  1 passed with nothing to check, 1 on the way
    certificate-valid                        1        0     8          137
    kiosk/processes.guardd                   1        0    19          126  1 excepted
    laptop/software.seedpool                 1        0    29          116
    ticket-server/sshd.permit_root_login     1        0     8          137
    ticket-server/log.retention_days         1        0     8          137
    handheld-encrypted                       0        1    80           65
    android-supported                        1        0    68           77  1 waived
    phone-lock                               0        0    74           72
    bridge-lock                              2        0    10          134  2 waived
    laptop-supported                         0        0    30          116
    agent-recent                             0        0    60           86
    kiosk/disk.free_bytes                    0        0    20          126  1 excepted
    kiosk/processes.soundings                0        0    20          126  1 excepted
    laptop/software.peepcam                  0        0    30          116
    laptop/software.hullplan                 0        0    30          116
    ticket-server/processes.guardd           0        0     9          137
    ticket-server/processes.ticketd          0        0     9          137
    firewall-on                              2        0    28          116  on trial
    drift/ticket-servers                     2        0     7          137  on trial
    ticket-server/queue.workers              1        0     8          137  on trial
    kiosk/processes                          0        0    20          126  on trial, 1 excepted

    0 opened, 0 closed, 1 fell due since Sat 13 Mar 2027 07:00
      fell due  puffin-bridge-1  charts-current  due since Sun 07:00, now
    ------- standard error -------
    Nothing is new since this assessment, so it stands.

    Next: fencepost access  fencepost list findings  fencepost why puffin-bridge-1
    ");
}

#[test]
fn vetting() {
    insta::assert_snapshot!(shown_by_the_demo(&["vet"]), @r#"
    $ fencepost vet
    warning[covers-nobody]: rule `watch-lock` covers no device
      --> rules/handhelds.toml:71:13
       |
    71 | covers   = 'role = "watch"'
       |             ^^^^^^^^^^^^^^ holds for none of 146 devices
       |
       = help: see what it asks for with: fencepost list devices --where 'role = "watch"'

    warning[clause-without-rule]: no enforced rule answers for `Port security order 9`
      --> controls.toml:12:10
       |
    12 | clause = "Port security order 9"
       |          ^^^^^^^^^^^^^^^^^^^^^^^ What is carried ashore takes no connection it did not ask for
       |
       = help: rule `firewall-on` would, once it is enforced

    note[group-without-use]: nothing names group `shore`
      --> groups.toml:41:9
       |
    41 | id    = "shore"
       |         ^^^^^^^
       |
       = help: name it in a rule, a baseline or an access rule, or take it away

    note[group-without-use]: nothing names group `bridge-devices`
      --> groups.toml:51:12
       |
    51 | id       = "bridge-devices"
       |            ^^^^^^^^^^^^^^^^
       |
       = help: name it in a rule, a baseline or an access rule, or take it away

    note[terms-of-other-version]: 1 person accepted `own-devices` in another version than 2026
     --> terms.toml:4:11
      |
    4 | id      = "own-devices"
      |           ^^^^^^^^^^^^^
      |
      = help: they have it to accept again: fencepost access --only terms

    note[waiver-over]: waiver `bridge-lock-until-agreed` is over
     --> waivers.toml:4:15
      |
    4 | id          = "bridge-lock-until-agreed"
      |               ^^^^^^^^^^^^^^^^^^^^^^^^^^
      |
      = help: take it out once nobody needs to look it up

    note[everybody-meets]: all 74 devices meet this, and none ever failed rule `phone-lock`
      --> rules/handhelds.toml:39:13
       |
    39 | require  = 'lock.idle_minutes <= 15'
       |             ^^^^^^^^^^^^^^^^^^^^^^^ the highest is 5
       |
       = help: if it could be stricter, preview a stricter one

    note[everybody-meets]: all 20 devices meet this, and none ever failed rule `kiosk/disk.free_bytes`
     --> baselines/unattended.toml:9:1
      |
    9 | "disk.free_bytes" = { test = ">= 2 * 10 ** 9", topic = "storage", severity = "low", grace = "7d", fix = "Remove o...
      | ^^^^^^^^^^^^^^^^^ the lowest is 2100000000
      |
      = help: if it could be stricter, preview a stricter one

    2 warnings, 6 notes in 20 files, with 26 rules and 6 examples; tried on 146 devices, as of Sun 14 Mar 2027 07:00
    "#);
}

#[test]
fn a_preview_of_nothing() {
    insta::assert_snapshot!(shown_by_the_demo(&["preview"]), @r#"
    $ fencepost preview
    Preview of the edited workspace against assessment 14, as of Sun 14 Mar 2027 07:00
    The rules are the same: nothing would change on 146 devices
    ------- standard error -------

    Nothing of this was written.
    "#);
}

#[test]
fn baselines() {
    insta::assert_snapshot!(shown_by_the_demo(&["baseline", "show", "laptop"]), @r"
    $ fencepost baseline show laptop
    laptop  Laptops
      covers    laptops

    RULE                      EXPECTED                       GRACE    WRITTEN IN
    laptop/software.seedpool  no seedpool in software        4d       baselines/laptops.toml:12
    laptop/software.peepcam   no peepcam in software         4d       baselines/laptops.toml:13
    laptop/software.hullplan  no hullplan < 4.2 in software  4d       baselines/laptops.toml:14
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["baseline", "show", "kiosk"]), @r"
    $ fencepost baseline show kiosk
    kiosk  Passenger information
      covers    kiosks
      extends   unattended

    RULE                       EXPECTED                   GRACE         WRITTEN IN
    kiosk/disk.free_bytes      >= 2 * 10 ** 9             7d            baselines/unattended.toml:9
    kiosk/processes.guardd     guardd is in processes     5d            baselines/unattended.toml:13
    kiosk/processes.soundings  soundings is in processes  5d            baselines/kiosks.toml:10
    kiosk/processes            nothing else in processes  5d     trial  baselines/kiosks.toml:8
    ");
    insta::assert_snapshot!(shown_by_the_demo(&["baseline", "derive", "office-laptop-1"]), @r#"
    $ fencepost baseline derive office-laptop-1
    ------- standard error -------
    error: the following required arguments were not provided:
      --id <ID>

    Usage: fencepost baseline derive --id <ID> <DEVICE|FILE>...

    For more information, try '--help'.
    [exit 2]
    "#);
}

#[test]
fn drafts() {
    insta::assert_snapshot!(shown_by_the_demo(&["source", "draft", "ferry/feeds/handhelds-2027-03-14.csv"]), @r#"
    $ fencepost source draft ferry/feeds/handhelds-2027-03-14.csv
    # A draft for feeds/handhelds-2027-03-14.csv: 86 records, 16 fields looked at. Read it, finish it, and put it into fencepost.toml;
    # then see what would come of it: fencepost import --dry-run feeds/handhelds-2027-03-14.csv

    [[source]]
    id               = "handhelds-2"
    files            = ["feeds/handhelds-*.csv"]  # which files are this feed
    format           = "csv"
    device           = "Asset tag"            # 86 of 86 are devices that are known: fulmar-bridge-1
    collected        = "Exported at"          # when the state was collected: 2027-03-14 05:30
    # time_zone      = "Europe/Oslo"          # the times name no offset: the workspace's zone, unless another is said
    # trust          = 10                     # could not tell: where feeds disagree, the higher wins
    # fresh_for      = "3d"                   # could not tell: after how long do its facts prove nothing?
    # complete       = true                   # could not tell: does each file list the whole feed?
    # expected_every = "1d"                   # could not tell: how often does it come?

    [source.fields]
    "Platform"         = "platform"                     # android, ios
    "Role"             = "role"                         # bridge-tablet, crew-phone, scanner
    "Site"             = "site"                         # Fulmar, Gannet, Petrel, .. (9 different)
    "Model"            = "model"                        # Skerry T10, Crew phone, Quay S2
    "OS ver."          = "os.version"                   # all versions: 13.0, 17.3, 11.0, .. (4 different)
    "Encrypted?"       = { fact = "disk.encrypted", true_when = ["Yes"], false_when = ["No"] }  # all yes or no: Yes, No; empty in 1 of 86
    "Rooted?"          = { fact = "security.rooted", true_when = ["Yes"], false_when = ["No"] }  # all yes or no: No, Yes
    "Lock after (min)" = { fact = "lock_after", unit = "min" }  # all numbers: 5, 30
    "Free (GB)"        = { fact = "disk.free_bytes", unit = "GB" }  # all numbers: 38.5, 27.5, 33.5, .. (37 different)
    "Booked as"        = "booked_as"                    # company, personal
    "Issued to"        = "person"                       # B-1001, B-1004, B-1005, .. (54 different); empty in 20 of 86; 66 of 66 are people of crew-list
    "Scan (ms)"        = { fact = "scan", unit = "ms" }  # all numbers: 208, 638, 623, .. (19 different); empty in 66 of 86
    "Radio"            = "radio"                        # R3, R4; empty in 66 of 86
    "Radio power"      = "radio_power"                  # full, auto; empty in 66 of 86

    # For facts.toml, below [facts]; a field with a unit needs its line there:
    # "lock_after" = { type = "number", unit = "min" }
    # "scan" = { type = "number", unit = "ms" }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["facts", "draft"]), @r#"
    $ fencepost facts draft
    # Values that are not of the declared type; conditions that need them are unknown:
    #   "password.length": 1 of 30 are no number, such as twelve

    # For facts.toml, below [facts]. Keep what is right:
    "agent.version" = { type = "version" }  # all 72 values, such as 5.2.0
    "#);
}

#[test]
fn the_whole_ledger_is_verified() {
    insta::assert_snapshot!(shown_by_the_demo(&["history", "--verify"]), @r#"
    $ fencepost history --verify
    The ledger is whole. Read: 59 runs, 146 devices, 179 documents, 44 versions of findings, 1416 standings and decisions, 1 rule set.
    "#);
}

#[test]
fn expressions_tried_out() {
    insta::assert_snapshot!(shown_by_the_demo(&["try", "count(software[name = \"harbour-mail\"])", "--device", "office-laptop-1"]), @r#"
    $ fencepost try 'count(software[name = "harbour-mail"])' --device office-laptop-1
    0  (number)
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["try", "disk.encrypted", "--device", "puffin-laptop-chief"]), @r#"
    $ fencepost try disk.encrypted --device puffin-laptop-chief
    not collected  (unknown: not collected)
      observed  disk.encrypted is not collected
      required  true
      from      no source reports disk.encrypted
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["try", "every x in software satisfies x.version > version(\"1\")", "--device", "office-laptop-7"]), @r#"
    $ fencepost try 'every x in software satisfies x.version > version("1")' --device office-laptop-7
    false  (fail)
      observed  1 of 5 in software break it
      from      agents, collected Sun 01:06, 5 h 54 min ago
        seedpool
          observed  x.version is 1.0
          required  > 1
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["try", "1 + 2 * 3"]), @r#"
    $ fencepost try '1 + 2 * 3'
    7  (number)
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["try", "date(\"2027-03-28\") + duration(\"P1M\")"]), @r#"
    $ fencepost try 'date("2027-03-28") + duration("P1M")'
    2027-04-28  (date)
    "#);
}

#[test]
fn pages_of_rules() {
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["show", "laptop-lock"]), @r"
    $ fencepost show laptop-lock
    laptop-lock  Laptops lock themselves, behind a long password
      stage     enforced, since Mon 1 Mar 07:00
      judges    medium severity, grace 7d
      requires  lock.idle_minutes <= 15 and password.length between 10 and 64
      written   rules/laptops.toml:18, as it is since Mon 1 Mar 07:00

    28 of 30 devices meet it (93 %): 28 pass, 1 fails, 1 unknown; 116 not covered

    By platform and group
      windows         22 of 23  22 pass, 1 fails
      macos             6 of 7  6 pass, 1 unknown
      laptops         28 of 30  28 pass, 1 fails, 1 unknown
      shore           16 of 18  16 pass, 1 fails, 1 unknown
      bridge-devices    6 of 6

    Not met
    DEVICE           SAYS     OBSERVED  REQUIRED           AGE         DUE                      HOLDER
    office-laptop-4  fail     60        <= 15              8 h 33 min  overdue since Wed 07:00  Tvenask
    office-laptop-9  unknown  twelve    between 10 and 64  3 h 28 min  Tue 07:00, in 2 d        Fjorupp

    What hangs on it
      response  standard
      access    good-device: Crew roster, Mail
      access    browser-with-limits: Crew roster, Mail
      access    charts-on-the-bridge: Sea charts
      access    tills: Ticketing

    Trend
      ██▅▅▅█▅▅▅▅▅▁▁▁  93 %, from 100 %, over 14 assessments
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost why office-laptop-4 laptop-lock
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["show", "charts-current"]), @r#"
    $ fencepost show charts-current
    charts-current  Sea charts are of this year's edition
      stage     enforced, since Mon 1 Mar 07:00
      judges    high severity, grace 12d
      requires  charts.edition >= date("2027-01-01")
      because   The port authority asks for current charts on every bridge.
      written   rules/handhelds.toml:56, as it is since Mon 1 Mar 07:00
      clauses   Port security order 4

    11 of 12 devices meet it (92 %): 11 pass, 1 fails; 134 not covered

    By platform and group
      android         11 of 12  11 pass, 1 fails
      bridge-tablets  11 of 12  11 pass, 1 fails
      bridge-devices    5 of 6  5 pass, 1 fails

    Not met
    DEVICE           SAYS  OBSERVED    AGE         DUE               HOLDER
    puffin-bridge-1  fail  2024-11-01  2 h 44 min  overdue since     Ljusprett,
                                                   Sun 07:00         Vravuld, Krofonn

    What hangs on it
      response  standard
      access    good-device: Crew roster, Mail
      access    browser-with-limits: Crew roster, Mail
      access    charts-on-the-bridge: Sea charts
      access    tills: Ticketing
      shut out  of Sea charts: Ljusprett (B-1034), Vravuld (B-1035), Krofonn
                (B-1036)

    Trend
      █▁▁▁▁▁▁▁▁▁▁▁▁▁  92 %, from 100 %, over 14 assessments
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost why puffin-bridge-1 charts-current
    "#);
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["show", "firewall-on"]), @r"
    $ fencepost show firewall-on
    firewall-on  The firewall is on
      stage     trial, since Mon 1 Mar 07:00, enforced from Thu 1 Apr 00:00, in 17 d 16 h
      judges    medium severity, grace 7d
      requires  firewall.enabled
      written   rules/laptops.toml:38, as it is since Mon 1 Mar 07:00
      clauses   Port security order 9

    28 of 30 devices meet it (93 %): 28 pass, 2 fail; 116 not covered

    By platform and group
      windows         21 of 23  21 pass, 2 fail
      macos             7 of 7
      laptops         28 of 30  28 pass, 2 fail
      shore           17 of 18  17 pass, 1 fails
      bridge-devices    6 of 6

    Not met
    DEVICE               SAYS  OBSERVED  REQUIRED  AGE         DUE  HOLDER
    it-laptop-1          fail  false     true      9 h 18 min       Plotvark
    puffin-laptop-chief  fail  false     true      4 h 40 min       Tvekrell

    What hangs on it
      response  standard

    Trend
      ▂▂▂▂▂▂▂▂▂▂▂▂▂▂  93 %, over 14 assessments
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost why it-laptop-1 firewall-on
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["show", "watch-lock"]), @r#"
    $ fencepost show watch-lock
    watch-lock  Watches lock themselves
      stage     draft; nobody is judged by it yet, and this is what it would say
      judges    low severity, grace 14d
      requires  lock.idle_minutes <= 5
      covers    role = "watch"
      because   The officers ask for watches; none has been bought yet.
      written   rules/handhelds.toml:68

    It reaches no device; 146 not covered

    What hangs on it
      response  standard
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost preview
    "#);
}

#[test]
fn pages_of_baselines_services_and_groups() {
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["show", "kiosk"]), @r"
    $ fencepost show kiosk
    kiosk  Passenger information
      covers    kiosks
      extends   unattended

    19 of 20 devices meet all of it (95 %); 1 meets some of it

    RULE                       EXPECTED                               PASS  FAIL  UNKNOWN  WAIVED  SHARE
    kiosk/disk.free_bytes      disk.free_bytes >= 2 * 10 ** 9           20     ·        ·       ·  100 %
    kiosk/processes.guardd     guardd is in processes                   19     1        ·       ·   95 %
    kiosk/processes.soundings  soundings is in processes                20     ·        ·       ·  100 %
    kiosk/processes            nothing else in processes       trial    20     ·        ·       ·  100 %
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost show kiosk/processes.guardd
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["show", "ticket-server"]), @r"
    $ fencepost show ticket-server
    ticket-server  Ticket servers, all ships and terminals
      covers    ticket-servers
      extends   unattended

    8 of 9 devices meet all of it (89 %); 1 meets some of it

    RULE                                  EXPECTED                       PASS  FAIL  UNKNOWN  WAIVED  SHARE
    ticket-server/processes.guardd        guardd is in processes            9     ·        ·       ·  100 %
    ticket-server/sshd.permit_root_login  sshd.permit_root_login            8     1        ·       ·   89 %
                                          is no
    ticket-server/log.retention_days      log.retention_days >=             8     1        ·       ·   89 %
                                          30
    ticket-server/queue.workers           queue.workers is 8      trial     8     1        ·       ·   89 %
    ticket-server/processes.ticketd       ticketd is in                     9     ·        ·       ·  100 %
                                          processes
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost show ticket-server/queue.workers
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["show", "mail"]), @r"
    $ fencepost show mail
    mail  Mail
      sign-ins  app, browser
      default   deny where no access rule applies
      rule      good-device
      rule      browser-with-limits
      rule      own-devices
      rule      own-phones-in-shape (on trial)

    164 devices with their people: 104 get in, 10 with obligations, 50 do not, all of them by default

    Not simply let in: 10 people
      charts-current: Sea charts are of this year's edition
        Ljusprett, Vravuld, Krofonn  Mail (app); Mail (browser): permit with no download  puffin-bridge-1
      terms own-devices are not accepted
        Brofonn  Mail (app, browser): permit with terms own-devices  petrel-phone-6
        Vradunk  Mail (app, browser): permit with terms own-devices  tern-phone-7
      laptop-lock: Laptops lock themselves, behind a long password
        Tvenask  Mail (app); Mail (browser): permit with no download  office-laptop-4
      laptop/software.seedpool: Laptops: no seedpool in software
        Glagvelt  Mail (app); Mail (browser): permit with no download  office-laptop-7
      disk-encrypted: Writable disks are encrypted
        Tvekrell  Mail (app); Mail (browser): permit with no download  puffin-laptop-chief
      not-rooted: The platform's protection is in place
        Krogvelt  Mail (app); Mail (browser): permit with no download  razorbill-phone-4
      silence: one rule left without an answer
        Yrsrupp  Mail (app); Mail (browser): permit with no download  tern-phone-5
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost show B-1082
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["show", "mail"]), @r"
    $ fencepost show mail
    mail  Mail
      sign-ins  app, browser
      default   deny where no access rule applies
      rule      good-device
      rule      browser-with-limits
      rule      own-devices
      rule      own-phones-in-shape (on trial)

    164 devices with their people: 104 get in, 10 with obligations, 50 do not, all of them by default

    Not simply let in: 10 people
      charts-current: Sea charts are of this year's edition
        Ljusprett, Vravuld, Krofonn  Mail (app); Mail (browser):     puffin-bridge-1
                                     permit with no download
      terms own-devices are not accepted
        Brofonn  Mail (app, browser): permit with terms own-devices  petrel-phone-6
        Vradunk  Mail (app, browser): permit with terms own-devices  tern-phone-7
      laptop-lock: Laptops lock themselves, behind a long password
        Tvenask  Mail (app); Mail (browser): permit with no          office-laptop-4
                 download
      laptop/software.seedpool: Laptops: no seedpool in software
        Glagvelt  Mail (app); Mail (browser): permit with no         office-laptop-7
                  download
      disk-encrypted: Writable disks are encrypted
        Tvekrell  Mail (app); Mail (browser): permit with no     puffin-laptop-chief
                  download
      not-rooted: The platform's protection is in place
        Krogvelt  Mail (app); Mail (browser): permit with no       razorbill-phone-4
                  download
      silence: one rule left without an answer
        Yrsrupp  Mail (app); Mail (browser): permit with no download  tern-phone-5
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost show B-1082
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["show", "kiosks"]), @r#"
    $ fencepost show kiosks
    kiosks  Passenger information
      where     role = "kiosk"
      written   groups.toml:9
      used by   agent-recent, kiosk

    20 of 21 devices compliant (95 %); 1 non-compliant

      ┃╳┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃┃    21   

      fulmar-kiosk-2  ╳ non-compliant
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30

    Next: fencepost list devices --where 'in group("kiosks")'
    "#);
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["show", "bridge"]), @r#"
    $ fencepost show bridge
    bridge  Officers of the bridge
      where     ends with(unit, "/bridge")
      written   groups.toml:64

    18 people
      B-1001  Brobek
      B-1002  Mjufonn
      B-1003  Yrskrell
      B-1012  Fjogvelt
      B-1013  Plolumm
      B-1014  Drarupp
      B-1023  Hvemott
      B-1024  Storupp
      B-1025  Glavuld
      B-1034  Ljusprett
      B-1035  Vravuld
      B-1036  Krofonn
      B-1045  Nyrbek
      B-1046  Brogvelt
      B-1047  Mjulumm
      B-1056  Skagvelt
      B-1057  Fjomott
      B-1058  Plorupp
    ------- standard error -------

    As of Sun 14 Mar 2027 07:00, assessed Sun 07:00; state collected Sat 02:10 to Sun 05:30
    "#);
}

#[test]
fn baselines_families_sites_and_items() {
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["list", "baselines"]), @r"
    $ fencepost list baselines
    BASELINE       DEVICES  ALL MET  SOME MET  NONE MET  UNKNOWN  SHARE  WAIVED
    kiosk               20       19         1         0        0   95 %       0
    laptop              30       29         1         0        0   97 %       0
    ticket-server        9        8         1         0        0   89 %       0
    ------- standard error -------

    3 baselines, as of Sun 14 Mar 2027 07:00

    Next: fencepost show ticket-server
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["list", "baselines"]), @r"
    $ fencepost list baselines
    BASELINE       DEVICES  ALL MET  SOME MET  NONE MET  UNKNOWN  SHARE  WAIVED
    kiosk               20       19         1         0        0   95 %       0
    laptop              30       29         1         0        0   97 %       0
    ticket-server        9        8         1         0        0   89 %       0
    ------- standard error -------

    3 baselines, as of Sun 14 Mar 2027 07:00

    Next: fencepost show ticket-server
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["list", "sites"]), @r#"
    $ fencepost list sites
    SITE          COUNT  SHARE  PART  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT
    Fulmar           17   94 %  12 %         16          0         0              1
    Gannet           17  100 %  12 %         17          0         0              0
    Petrel           17  100 %  12 %         17          0         0              0
    Razorbill        17   94 %  12 %         16          0         0              1
    Tern             17   88 %  12 %         15          0         1              1
    Puffin           16   88 %  11 %         14          0         0              2
    Office           15   80 %  10 %         12          1         0              2
    Holm Quay        10  100 %   7 %         10          0         0              0
    Ness Pier        10   90 %   7 %          9          1         0              0
    Sund Landing     10  100 %   7 %         10          0         0              0
    ------- standard error -------

    146 devices, as of Sun 14 Mar 2027 07:00; left out for want of room: waived (--columns shows them)

    Next: fencepost list devices --where 'site = "Fulmar"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["list", "devices", "--by", "platform,ownership"]), @r#"
    $ fencepost list devices --by platform,ownership
    PLATFORM  OWNERSHIP  COUNT  SHARE  PART  COMPLIANT  ON NOTICE  UNPROVEN  NON COMPLIANT  WAIVED
    android   personal      37   97 %  25 %         36          0         0              1       1
    android   company       32   97 %  22 %         31          0         0              1       1
    linux     company       30   90 %  21 %         27          1         0              2       0
    windows   company       23   87 %  16 %         20          0         0              3       0
    ios       personal      17   94 %  12 %         16          0         1              0       0
    macos     company        4   75 %   3 %          3          1         0              0       0
    macos     personal       3  100 %   2 %          3          0         0              0       0
    ------- standard error -------

    146 devices, as of Sun 14 Mar 2027 07:00

    Next: fencepost list devices --where 'platform = "android" and ownership = "personal"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["list", "items", "software"]), @r#"
    $ fencepost list items software
    ITEM       DEVICES  SHARE  VERSIONS  FIRST SEEN        NAMED  NAMED BY
    seedpool         1    3 %  1.0       Fri 5 Mar 22:32   never  laptop
    hullplan        10   33 %  4.2.1     Sun 28 Feb 21:59  never  laptop
    ebbnote         30  100 %  3.4.0     Sun 28 Feb 21:05  none
    guardd          30  100 %  7.1.3     Sun 28 Feb 21:05  none
    soundings       30  100 %  2.0       Sun 28 Feb 21:05  none
    ------- standard error -------

    5 items, as of Sun 14 Mar 2027 07:00

    Next: fencepost list devices --where 'some name in software.name satisfies name = "seedpool"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["list", "items", "processes", "--unnamed"]), @r#"
    $ fencepost list items processes --unnamed
    ITEM     DEVICES  SHARE  VERSIONS  FIRST SEEN        NAMED  NAMED BY
    logrotd        9   30 %            Sun 28 Feb 21:52  none
    sshd           9   30 %            Sun 28 Feb 21:52  none
    ------- standard error -------

    2 items, as of Sun 14 Mar 2027 07:00

    Next: fencepost list devices --where 'some name in processes.name satisfies name = "logrotd"'
    "#);
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["list", "items", "softwares"]), @r"
    $ fencepost list items softwares
    ------- standard error -------
    error: no device reports `softwares` as a list
      help: did you mean `software`?
    [exit 2]
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["list", "verdicts", "--columns", "help"]), @r"
    $ fencepost list verdicts --columns help
    COLUMN           MEANS
    device    shown  the device
    holder    shown  who holds the device
    rule      shown  the rule
    family    shown  what stands before the slash of the rule's id
    outcome   shown  what the rule says: pass, fail, unknown, not-applicable
    reason    shown  why nothing is known
    stage     shown  how far it is in force
    severity  shown  how bad a failure is
    observed  shown  what was observed
    required  shown  what is required
    source    shown  where the fact that was looked at comes from
    age       shown  how old the newest fact is that was looked at
    awaiting  shown  what was asked for is on its way
    phase     shown  open, overdue, waived or closed
    due       shown  when its grace ends, a moment
    title            what it is, for people
    waived           a waiver covers what it says
    excepted         the rule would cover the device but for an exception
    ------- standard error -------

    Any of them may be named in --where, --columns, --sort and --by.
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["list", "verdicts", "--where", "outcome = \"fail\""]), @r#"
    $ fencepost list verdicts --where 'outcome = "fail"'
    DEVICE               RULE                                  OUTCOME
    fulmar-kiosk-2       kiosk/processes.guardd                fail
    gannet-phone-2       android-supported                     fail
    holm-quay-tickets    drift/ticket-servers                  fail
    it-laptop-1          firewall-on                           fail
    ness-pier-tickets    certificate-valid                     fail
    office-laptop-4      laptop-lock                           fail
    office-laptop-7      laptop/software.seedpool              fail
    puffin-bridge-1      bridge-lock                           fail
    puffin-bridge-1      charts-current                        fail
    puffin-bridge-2      bridge-lock                           fail
    puffin-laptop-chief  disk-encrypted                        fail
    puffin-laptop-chief  firewall-on                           fail
    razorbill-phone-4    not-rooted                            fail
    tern-tickets         ticket-server/sshd.permit_root_login  fail
    tern-tickets         ticket-server/log.retention_days      fail
    tern-tickets         ticket-server/queue.workers           fail
    tern-tickets         drift/ticket-servers                  fail
    ------- standard error -------

    17 of 747 verdicts, as of Sun 14 Mar 2027 07:00; left out for want of room: family, source, stage, awaiting, severity, holder, phase, reason, due, age, required, observed (--columns shows them)

    Next: fencepost why fulmar-kiosk-2 kiosk/processes.guardd
    "#);
}

#[test]
fn figures_of_parts_and_two_moments_compared() {
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["history", "--last", "5"]), @r"
    $ fencepost history --last 5
    AS OF      ALL    ┃  ╱  ┆  ╳  OPENED  BACK  DUE  CLOSED  LATE  OUT
    Wed 07:00  146  133  6  1  6       ·     ·    2       ·     8    ·
    Thu 07:00  146  136  3  1  6       ·     ·    ·       3     8    ·
    Fri 07:00  146  137  2  1  6       1     ·    1       1     8    ·
    Sat 07:00  146  136  3  1  6       1     ·    ·       ·     8    ·
    Sun 07:00  146  136  2  1  7       ·     ·    1       ·     9    3

    ┃ compliant   ╱ on notice   ┆ unproven   ╳ non-compliant
    BACK came back   DUE fell due   LATE overdue by then   OUT people shut out of a service

    compliant             ▁▅█▅▅  93 %, from 91 %
    drift ticket-servers  ▂▂▂▂▂  2 of 9 differ; 3 differences; 1 accepted
    drift kiosks          ▂▂▂▂▂  2 of 21 differ; 2 differences

    Time to fix, from the first opening to the last closing
      RULE                     FIXED  MEDIAN  LONGEST  CAME BACK
      laptop/software.peepcam      1     3 d      3 d
    ------- standard error -------

    Next: fencepost history --since 2027-03-13T06:00:00Z
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(140, &["history", "--last", "3"]), @r"
    $ fencepost history --last 3
    AS OF      DEVICES  COMPLIANT  ON NOTICE  UNPROVEN  NON-COMPLIANT  OPENED  CAME BACK  FELL DUE  CLOSED  OVERDUE  SHUT OUT
    Fri 07:00      146        137          2         1              6       1          ·         1       1        8         ·
    Sat 07:00      146        136          3         1              6       1          ·         ·       ·        8         ·
    Sun 07:00      146        136          2         1              7       ·          ·         1       ·        9         3

    compliant             █▁▁  93 %, from 94 %
    drift ticket-servers  ▂▂▂  2 of 9 differ; 3 differences; 1 accepted
    drift kiosks          ▂▂▂  2 of 21 differ; 2 differences

    Time to fix, from the first opening to the last closing
      RULE                     FIXED  MEDIAN  LONGEST  CAME BACK
      laptop/software.peepcam      1     3 d      3 d
    ------- standard error -------

    Next: fencepost history --since 2027-03-13T06:00:00Z
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["history", "--per", "week"]), @r"
    $ fencepost history --per week
    AS OF            ALL    ┃  ╱  ┆  ╳  OPENED  BACK  DUE  CLOSED  LATE  OUT
    Sun 7 Mar 07:00  146  135  8  1  2      24     1    2       1     3    ·
    Sun 07:00        146  136  2  1  7       4     ·    7      14     9    3

    ┃ compliant   ╱ on notice   ┆ unproven   ╳ non-compliant
    BACK came back   DUE fell due   LATE overdue by then   OUT people shut out of a service

    compliant             ▁█  93 %, from 92 %
    drift ticket-servers  ▂▂  2 of 9 differ; 3 differences; 1 accepted
    drift kiosks          ▂▂  2 of 21 differ; 2 differences

    Time to fix, from the first opening to the last closing
      RULE                     FIXED  MEDIAN  LONGEST  CAME BACK
      bridge-lock                 10     8 d      8 d
      laptop-lock                  1     3 d      3 d          1
      laptop/software.peepcam      1     3 d      3 d
    ------- standard error -------

    Next: fencepost history --since 2027-03-07T06:00:00Z
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["history", "--rule", "laptop-lock"]), @r"
    $ fencepost history --rule laptop-lock
    AS OF            PASS  FAIL  UNKNOWN  WAIVED  EXCEPTED  AWAITING  SHARE
    Mon 1 Mar 07:00    30     ·        ·       ·         ·         ·  100 %
    Tue 2 Mar 07:00    30     ·        ·       ·         ·         ·  100 %
    Wed 3 Mar 07:00    29     1        ·       ·         ·         ·   97 %
    Thu 4 Mar 07:00    29     1        ·       ·         ·         ·   97 %
    Fri 5 Mar 07:00    29     1        ·       ·         ·         ·   97 %
    Sat 6 Mar 07:00    30     ·        ·       ·         ·         ·  100 %
    Sun 7 Mar 07:00    29     1        ·       ·         ·         ·   97 %
    Mon 8 Mar 07:00    29     1        ·       ·         ·         ·   97 %
    Tue 07:00          29     1        ·       ·         ·         ·   97 %
    Wed 07:00          29     1        ·       ·         ·         ·   97 %
    Thu 07:00          29     1        ·       ·         ·         ·   97 %
    Fri 07:00          28     1        1       ·         ·         ·   93 %
    Sat 07:00          28     1        1       ·         ·         ·   93 %
    Sun 07:00          28     1        1       ·         ·         ·   93 %

    met  ██▅▅▅█▅▅▅▅▅▁▁▁  93 %, from 100 %
    ------- standard error -------

    Next: fencepost show laptop-lock
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["history", "--group", "kiosks", "--last", "5"]), @r"
    $ fencepost history --group kiosks --last 5
    AS OF      DEVICES  COMPLIANT  ON NOTICE  UNPROVEN  NON-COMPLIANT  WAIVED  SHARE
    Wed 07:00       21         18          2         ·              1       ·   86 %
    Thu 07:00       21         20          ·         ·              1       ·   95 %
    Fri 07:00       21         20          ·         ·              1       ·   95 %
    Sat 07:00       21         20          ·         ·              1       ·   95 %
    Sun 07:00       21         20          ·         ·              1       ·   95 %

    compliant  ▁████  95 %, from 86 %
    ------- standard error -------

    Next: fencepost show kiosks
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["history", "--service", "mail", "--last", "4"]), @r"
    $ fencepost history --service mail --last 4
    AS OF      PERMIT  LIMITED  DENY  BY DEFAULT  SHUT OUT  SHARE
    Thu 07:00     107        7    50          50         ·  100 %
    Fri 07:00     107        7    50          50         ·  100 %
    Sat 07:00     107        7    50          50         ·  100 %
    Sun 07:00     104       10    50          50         ·  100 %

    get in, default denials left out  ▂▂▂▂  100 %
    ------- standard error -------

    Next: fencepost show mail
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(120, &["history", "--since", "2027-03-11"]), @r"
    $ fencepost history --since 2027-03-11
    Since Wed 10 Mar 2027 07:00: 136 of 146 devices compliant (93 %), 3 more

    Opened: 2
      ness-pier-tickets  certificate-valid  due Tue 07:00, in 2 d
      office-laptop-9    silence            due Tue 07:00, in 2 d

    Closed: 4
      office-laptop-2  laptop/software.peepcam  fixed Fri 07:00
      petrel-kiosk-1   silence                  answered Thu 07:00
      petrel-kiosk-2   silence                  answered Thu 07:00
      petrel-tickets   silence                  answered Thu 07:00

    Lost: 17 ways of 5 people
      charts-current: Sea charts are of this year's edition
        Ljusprett, Vravuld, Krofonn  Sea charts (app); Mail, Crew roster (app)  puffin-bridge-1
      disk-encrypted: Writable disks are encrypted
        Tvekrell  Mail, Crew roster (app)  puffin-laptop-chief
      the device is not theirs any more
        Krogvelt  Sea charts (app); Mail, Crew roster (app, browser); Handbook (browser)  razorbill-bridge-2

    Reduced: 8 ways of 4 people
      charts-current: Sea charts are of this year's edition
        Ljusprett, Vravuld, Krofonn  Mail, Crew roster (browser): permit with no download  puffin-bridge-1
      disk-encrypted: Writable disks are encrypted
        Tvekrell  Mail, Crew roster (browser): permit with no download  puffin-laptop-chief

    Regained: 7 ways of 1 person and 3 devices of nobody
      handbook-for-known-devices asks for device.managed
        nobody  Handbook (browser): permit  petrel-kiosk-1
        nobody  Handbook (browser): permit  petrel-kiosk-2
        nobody  Handbook (browser): permit  petrel-tickets
      android-supported: Android is a version that still gets repairs
        Brodunk  Mail, Crew roster (app, browser): permit  gannet-phone-2
    ------- standard error -------

    Next: fencepost why ness-pier-tickets certificate-valid
    ");
    insta::assert_snapshot!(shown_by_the_demo_in(80, &["history", "--since", "2027-03-13"]), @r"
    $ fencepost history --since 2027-03-13
    Since Fri 12 Mar 2027 07:00: 136 of 146 devices compliant (93 %), 1 fewer

    Opened: 1
      ness-pier-tickets  certificate-valid  due Tue 07:00, in 2 d

    Lost: 15 ways of 4 people
      charts-current: Sea charts are of this year's edition
        Ljusprett, Vravuld, Krofonn  Sea charts (app); Mail, Crew    puffin-bridge-1
                                     roster (app)
      the device is not theirs any more
        Krogvelt  Sea charts (app); Mail, Crew roster (app,       razorbill-bridge-2
                  browser); Handbook (browser)

    Reduced: 6 ways of 3 people
      charts-current: Sea charts are of this year's edition
        Ljusprett, Vravuld, Krofonn  Mail, Crew roster (browser):    puffin-bridge-1
                                     permit with no download
    ------- standard error -------

    Next: fencepost why ness-pier-tickets certificate-valid
    ");
}
