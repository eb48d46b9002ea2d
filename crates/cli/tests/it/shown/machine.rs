//! What programs read of the demo: JSON, JSON Lines and CSV, whole.

use crate::env::shown_by_the_demo;

#[test]
fn list_findings() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "findings", "--format", "json"]), @r#"
    $ fencepost list findings --format json
    {
      "schema": 1,
      "as_of": "2027-03-14T06:00:00Z",
      "past_valid_until": 0,
      "untold": 0,
      "untold_because": {},
      "rows": [
        {
          "device": "razorbill-phone-4",
          "rule": "not-rooted",
          "phase": "overdue",
          "severity": "critical",
          "opened": "2027-03-04T06:00:00Z",
          "due": "2027-03-04T06:00:00Z",
          "holder": "Krogvelt"
        },
        {
          "device": "tern-phone-5",
          "rule": "silence",
          "phase": "overdue",
          "severity": null,
          "opened": "2027-03-01T06:00:00Z",
          "due": "2027-03-05T06:00:00Z",
          "holder": "Yrsrupp"
        },
        {
          "device": "fulmar-kiosk-2",
          "rule": "kiosk/processes.guardd",
          "phase": "overdue",
          "severity": "high",
          "opened": "2027-03-03T06:00:00Z",
          "due": "2027-03-08T06:00:00Z",
          "holder": null
        },
        {
          "device": "tern-tickets",
          "rule": "ticket-server/log.retention_days",
          "phase": "overdue",
          "severity": "high",
          "opened": "2027-03-02T06:00:00Z",
          "due": "2027-03-08T06:00:00Z",
          "holder": null
        },
        {
          "device": "tern-tickets",
          "rule": "ticket-server/sshd.permit_root_login",
          "phase": "overdue",
          "severity": "high",
          "opened": "2027-03-02T06:00:00Z",
          "due": "2027-03-08T06:00:00Z",
          "holder": null
        },
        {
          "device": "office-laptop-4",
          "rule": "laptop-lock",
          "phase": "overdue",
          "severity": "medium",
          "opened": "2027-03-03T06:00:00Z",
          "due": "2027-03-10T06:00:00Z",
          "holder": "Tvenask"
        },
        {
          "device": "office-laptop-7",
          "rule": "laptop/software.seedpool",
          "phase": "overdue",
          "severity": "medium",
          "opened": "2027-03-06T06:00:00Z",
          "due": "2027-03-10T06:00:00Z",
          "holder": "Glagvelt"
        },
        {
          "device": "puffin-laptop-chief",
          "rule": "disk-encrypted",
          "phase": "overdue",
          "severity": "high",
          "opened": "2027-03-09T06:00:00Z",
          "due": "2027-03-12T06:00:00Z",
          "holder": "Tvekrell"
        },
        {
          "device": "puffin-bridge-1",
          "rule": "charts-current",
          "phase": "overdue",
          "severity": "high",
          "opened": "2027-03-02T06:00:00Z",
          "due": "2027-03-14T06:00:00Z",
          "holder": "Ljusprett, Vravuld, Krofonn"
        },
        {
          "device": "ness-pier-tickets",
          "rule": "certificate-valid",
          "phase": "open",
          "severity": "high",
          "opened": "2027-03-13T06:00:00Z",
          "due": "2027-03-16T06:00:00Z",
          "holder": null
        },
        {
          "device": "office-laptop-9",
          "rule": "silence",
          "phase": "open",
          "severity": null,
          "opened": "2027-03-12T06:00:00Z",
          "due": "2027-03-16T06:00:00Z",
          "holder": "Fjorupp"
        },
        {
          "device": "gannet-phone-2",
          "rule": "android-supported",
          "phase": "waived",
          "severity": "high",
          "opened": "2027-03-01T06:00:00Z",
          "due": "2027-03-06T06:00:00Z",
          "holder": "Brodunk"
        },
        {
          "device": "puffin-bridge-1",
          "rule": "bridge-lock",
          "phase": "waived",
          "severity": "medium",
          "opened": "2027-03-01T06:00:00Z",
          "due": "2027-03-27T23:00:00Z",
          "holder": "Ljusprett, Vravuld, Krofonn"
        },
        {
          "device": "puffin-bridge-2",
          "rule": "bridge-lock",
          "phase": "waived",
          "severity": "medium",
          "opened": "2027-03-01T06:00:00Z",
          "due": "2027-03-27T23:00:00Z",
          "holder": "Tvekrell, Glabek"
        }
      ]
    }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "findings", "--format", "jsonl"]), @r#"
    $ fencepost list findings --format jsonl
    {"schema":1,"device":"razorbill-phone-4","rule":"not-rooted","phase":"overdue","severity":"critical","opened":"2027-03-04T06:00:00Z","due":"2027-03-04T06:00:00Z","holder":"Krogvelt"}
    {"schema":1,"device":"tern-phone-5","rule":"silence","phase":"overdue","severity":null,"opened":"2027-03-01T06:00:00Z","due":"2027-03-05T06:00:00Z","holder":"Yrsrupp"}
    {"schema":1,"device":"fulmar-kiosk-2","rule":"kiosk/processes.guardd","phase":"overdue","severity":"high","opened":"2027-03-03T06:00:00Z","due":"2027-03-08T06:00:00Z","holder":null}
    {"schema":1,"device":"tern-tickets","rule":"ticket-server/log.retention_days","phase":"overdue","severity":"high","opened":"2027-03-02T06:00:00Z","due":"2027-03-08T06:00:00Z","holder":null}
    {"schema":1,"device":"tern-tickets","rule":"ticket-server/sshd.permit_root_login","phase":"overdue","severity":"high","opened":"2027-03-02T06:00:00Z","due":"2027-03-08T06:00:00Z","holder":null}
    {"schema":1,"device":"office-laptop-4","rule":"laptop-lock","phase":"overdue","severity":"medium","opened":"2027-03-03T06:00:00Z","due":"2027-03-10T06:00:00Z","holder":"Tvenask"}
    {"schema":1,"device":"office-laptop-7","rule":"laptop/software.seedpool","phase":"overdue","severity":"medium","opened":"2027-03-06T06:00:00Z","due":"2027-03-10T06:00:00Z","holder":"Glagvelt"}
    {"schema":1,"device":"puffin-laptop-chief","rule":"disk-encrypted","phase":"overdue","severity":"high","opened":"2027-03-09T06:00:00Z","due":"2027-03-12T06:00:00Z","holder":"Tvekrell"}
    {"schema":1,"device":"puffin-bridge-1","rule":"charts-current","phase":"overdue","severity":"high","opened":"2027-03-02T06:00:00Z","due":"2027-03-14T06:00:00Z","holder":"Ljusprett, Vravuld, Krofonn"}
    {"schema":1,"device":"ness-pier-tickets","rule":"certificate-valid","phase":"open","severity":"high","opened":"2027-03-13T06:00:00Z","due":"2027-03-16T06:00:00Z","holder":null}
    {"schema":1,"device":"office-laptop-9","rule":"silence","phase":"open","severity":null,"opened":"2027-03-12T06:00:00Z","due":"2027-03-16T06:00:00Z","holder":"Fjorupp"}
    {"schema":1,"device":"gannet-phone-2","rule":"android-supported","phase":"waived","severity":"high","opened":"2027-03-01T06:00:00Z","due":"2027-03-06T06:00:00Z","holder":"Brodunk"}
    {"schema":1,"device":"puffin-bridge-1","rule":"bridge-lock","phase":"waived","severity":"medium","opened":"2027-03-01T06:00:00Z","due":"2027-03-27T23:00:00Z","holder":"Ljusprett, Vravuld, Krofonn"}
    {"schema":1,"device":"puffin-bridge-2","rule":"bridge-lock","phase":"waived","severity":"medium","opened":"2027-03-01T06:00:00Z","due":"2027-03-27T23:00:00Z","holder":"Tvekrell, Glabek"}
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "findings", "--format", "csv"]), @r#"
    $ fencepost list findings --format csv
    device,rule,phase,severity,opened,due,holder
    razorbill-phone-4,not-rooted,overdue,critical,2027-03-04T06:00:00Z,2027-03-04T06:00:00Z,Krogvelt
    tern-phone-5,silence,overdue,,2027-03-01T06:00:00Z,2027-03-05T06:00:00Z,Yrsrupp
    fulmar-kiosk-2,kiosk/processes.guardd,overdue,high,2027-03-03T06:00:00Z,2027-03-08T06:00:00Z,
    tern-tickets,ticket-server/log.retention_days,overdue,high,2027-03-02T06:00:00Z,2027-03-08T06:00:00Z,
    tern-tickets,ticket-server/sshd.permit_root_login,overdue,high,2027-03-02T06:00:00Z,2027-03-08T06:00:00Z,
    office-laptop-4,laptop-lock,overdue,medium,2027-03-03T06:00:00Z,2027-03-10T06:00:00Z,Tvenask
    office-laptop-7,laptop/software.seedpool,overdue,medium,2027-03-06T06:00:00Z,2027-03-10T06:00:00Z,Glagvelt
    puffin-laptop-chief,disk-encrypted,overdue,high,2027-03-09T06:00:00Z,2027-03-12T06:00:00Z,Tvekrell
    puffin-bridge-1,charts-current,overdue,high,2027-03-02T06:00:00Z,2027-03-14T06:00:00Z,"Ljusprett, Vravuld, Krofonn"
    ness-pier-tickets,certificate-valid,open,high,2027-03-13T06:00:00Z,2027-03-16T06:00:00Z,
    office-laptop-9,silence,open,,2027-03-12T06:00:00Z,2027-03-16T06:00:00Z,Fjorupp
    gannet-phone-2,android-supported,waived,high,2027-03-01T06:00:00Z,2027-03-06T06:00:00Z,Brodunk
    puffin-bridge-1,bridge-lock,waived,medium,2027-03-01T06:00:00Z,2027-03-27T23:00:00Z,"Ljusprett, Vravuld, Krofonn"
    puffin-bridge-2,bridge-lock,waived,medium,2027-03-01T06:00:00Z,2027-03-27T23:00:00Z,"Tvekrell, Glabek"
    "#);
}

#[test]
fn list_rules() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rules", "--where", "fail > 0", "--format", "json"]), @r#"
    $ fencepost list rules --where 'fail > 0' --format json
    {
      "schema": 1,
      "as_of": "2027-03-14T06:00:00Z",
      "past_valid_until": 0,
      "untold": 1,
      "untold_because": {
        "no-value": 1
      },
      "rows": [
        {
          "rule": "not-rooted",
          "severity": "critical",
          "stage": "enforced",
          "grace": "0",
          "reach": 86,
          "pass": 85,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.9883720930232558,
          "changed": "2027-03-01T06:00:00Z",
          "title": "The platform's protection is in place"
        },
        {
          "rule": "android-supported",
          "severity": "high",
          "stage": "enforced",
          "grace": "5d",
          "reach": 69,
          "pass": 68,
          "fail": 1,
          "unknown": 0,
          "waived": 1,
          "share": 1.0,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Android is a version that still gets repairs"
        },
        {
          "rule": "bridge-lock",
          "severity": "medium",
          "stage": "enforced",
          "grace": "7d",
          "reach": 12,
          "pass": 10,
          "fail": 2,
          "unknown": 0,
          "waived": 2,
          "share": 1.0,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Tablets on the bridge lock after ten minutes"
        },
        {
          "rule": "charts-current",
          "severity": "high",
          "stage": "enforced",
          "grace": "12d",
          "reach": 12,
          "pass": 11,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.9166666666666666,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Sea charts are of this year's edition"
        },
        {
          "rule": "disk-encrypted",
          "severity": "high",
          "stage": "enforced",
          "grace": "3d",
          "reach": 30,
          "pass": 29,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.9666666666666667,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Writable disks are encrypted"
        },
        {
          "rule": "laptop-lock",
          "severity": "medium",
          "stage": "enforced",
          "grace": "7d",
          "reach": 30,
          "pass": 28,
          "fail": 1,
          "unknown": 1,
          "waived": 0,
          "share": 0.9333333333333333,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Laptops lock themselves, behind a long password"
        },
        {
          "rule": "firewall-on",
          "severity": "medium",
          "stage": "trial",
          "grace": "7d",
          "reach": 30,
          "pass": 28,
          "fail": 2,
          "unknown": 0,
          "waived": 0,
          "share": 0.9333333333333333,
          "changed": "2027-03-01T06:00:00Z",
          "title": "The firewall is on"
        },
        {
          "rule": "certificate-valid",
          "severity": "high",
          "stage": "enforced",
          "grace": "3d",
          "reach": 9,
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.8888888888888888,
          "changed": "2027-03-01T06:00:00Z",
          "title": "The server's certificate is valid"
        },
        {
          "rule": "kiosk/processes.guardd",
          "severity": "high",
          "stage": "enforced",
          "grace": "5d",
          "reach": 20,
          "pass": 19,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.95,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Passenger information: guardd is in processes"
        },
        {
          "rule": "laptop/software.seedpool",
          "severity": "medium",
          "stage": "enforced",
          "grace": "4d",
          "reach": 30,
          "pass": 29,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.9666666666666667,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Laptops: no seedpool in software"
        },
        {
          "rule": "ticket-server/sshd.permit_root_login",
          "severity": "high",
          "stage": "enforced",
          "grace": "6d",
          "reach": 9,
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.8888888888888888,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Ticket servers, all ships and terminals: sshd.permit_root_login is no"
        },
        {
          "rule": "ticket-server/log.retention_days",
          "severity": "high",
          "stage": "enforced",
          "grace": "6d",
          "reach": 9,
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.8888888888888888,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Ticket servers, all ships and terminals: log.retention_days >= 30"
        },
        {
          "rule": "ticket-server/queue.workers",
          "severity": "high",
          "stage": "trial",
          "grace": "6d",
          "reach": 9,
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "waived": 0,
          "share": 0.8888888888888888,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Ticket servers, all ships and terminals: queue.workers is 8"
        },
        {
          "rule": "drift/ticket-servers",
          "severity": "low",
          "stage": "trial",
          "grace": "14d",
          "reach": 9,
          "pass": 7,
          "fail": 2,
          "unknown": 0,
          "waived": 0,
          "share": 0.7777777777777778,
          "changed": "2027-03-01T06:00:00Z",
          "title": "Ticket servers, all ships and terminals: alike"
        }
      ]
    }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "rules", "--where", "fail > 0", "--format", "csv"]), @r#"
    $ fencepost list rules --where 'fail > 0' --format csv
    rule,severity,stage,grace,reach,pass,fail,unknown,waived,share,changed,title
    not-rooted,critical,enforced,0,86,85,1,0,0,0.9883720930232558,2027-03-01T06:00:00Z,The platform's protection is in place
    android-supported,high,enforced,5d,69,68,1,0,1,1.0,2027-03-01T06:00:00Z,Android is a version that still gets repairs
    bridge-lock,medium,enforced,7d,12,10,2,0,2,1.0,2027-03-01T06:00:00Z,Tablets on the bridge lock after ten minutes
    charts-current,high,enforced,12d,12,11,1,0,0,0.9166666666666666,2027-03-01T06:00:00Z,Sea charts are of this year's edition
    disk-encrypted,high,enforced,3d,30,29,1,0,0,0.9666666666666667,2027-03-01T06:00:00Z,Writable disks are encrypted
    laptop-lock,medium,enforced,7d,30,28,1,1,0,0.9333333333333333,2027-03-01T06:00:00Z,"Laptops lock themselves, behind a long password"
    firewall-on,medium,trial,7d,30,28,2,0,0,0.9333333333333333,2027-03-01T06:00:00Z,The firewall is on
    certificate-valid,high,enforced,3d,9,8,1,0,0,0.8888888888888888,2027-03-01T06:00:00Z,The server's certificate is valid
    kiosk/processes.guardd,high,enforced,5d,20,19,1,0,0,0.95,2027-03-01T06:00:00Z,Passenger information: guardd is in processes
    laptop/software.seedpool,medium,enforced,4d,30,29,1,0,0,0.9666666666666667,2027-03-01T06:00:00Z,Laptops: no seedpool in software
    ticket-server/sshd.permit_root_login,high,enforced,6d,9,8,1,0,0,0.8888888888888888,2027-03-01T06:00:00Z,"Ticket servers, all ships and terminals: sshd.permit_root_login is no"
    ticket-server/log.retention_days,high,enforced,6d,9,8,1,0,0,0.8888888888888888,2027-03-01T06:00:00Z,"Ticket servers, all ships and terminals: log.retention_days >= 30"
    ticket-server/queue.workers,high,trial,6d,9,8,1,0,0,0.8888888888888888,2027-03-01T06:00:00Z,"Ticket servers, all ships and terminals: queue.workers is 8"
    drift/ticket-servers,low,trial,14d,9,7,2,0,0,0.7777777777777778,2027-03-01T06:00:00Z,"Ticket servers, all ships and terminals: alike"
    "#);
}

#[test]
fn list_devices() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--where", "standing = \"unproven\"", "--format", "json"]), @r#"
    $ fencepost list devices --where 'standing = "unproven"' --format json
    {
      "schema": 1,
      "as_of": "2027-03-14T06:00:00Z",
      "past_valid_until": 0,
      "untold": 0,
      "untold_because": {},
      "rows": [
        {
          "device": "tern-phone-5",
          "standing": "unproven",
          "site": "Tern",
          "holder": "Yrsrupp",
          "open": 0,
          "overdue": 1,
          "waived": 0,
          "collected_at": "2027-03-14T04:30:00Z"
        }
      ]
    }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--where", "standing = \"unproven\"", "--format", "jsonl"]), @r#"
    $ fencepost list devices --where 'standing = "unproven"' --format jsonl
    {"schema":1,"device":"tern-phone-5","standing":"unproven","site":"Tern","holder":"Yrsrupp","open":0,"overdue":1,"waived":0,"collected_at":"2027-03-14T04:30:00Z"}
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--where", "standing = \"unproven\"", "--format", "csv"]), @r#"
    $ fencepost list devices --where 'standing = "unproven"' --format csv
    device,standing,site,holder,open,overdue,waived,collected_at
    tern-phone-5,unproven,Tern,Yrsrupp,0,1,0,2027-03-14T04:30:00Z
    "#);
}

#[test]
fn list_devices_by() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--by", "platform", "--format", "json"]), @r#"
    $ fencepost list devices --by platform --format json
    {
      "schema": 1,
      "as_of": "2027-03-14T06:00:00Z",
      "past_valid_until": 0,
      "untold": 0,
      "untold_because": {},
      "rows": [
        {
          "platform": "android",
          "count": 69,
          "share": 0.9710144927536232,
          "part": 0.4726027397260274,
          "compliant": 67,
          "on_notice": 0,
          "unproven": 0,
          "non_compliant": 2,
          "waived": 2
        },
        {
          "platform": "linux",
          "count": 30,
          "share": 0.9,
          "part": 0.2054794520547945,
          "compliant": 27,
          "on_notice": 1,
          "unproven": 0,
          "non_compliant": 2,
          "waived": 0
        },
        {
          "platform": "windows",
          "count": 23,
          "share": 0.8695652173913043,
          "part": 0.15753424657534246,
          "compliant": 20,
          "on_notice": 0,
          "unproven": 0,
          "non_compliant": 3,
          "waived": 0
        },
        {
          "platform": "ios",
          "count": 17,
          "share": 0.9411764705882353,
          "part": 0.11643835616438356,
          "compliant": 16,
          "on_notice": 0,
          "unproven": 1,
          "non_compliant": 0,
          "waived": 0
        },
        {
          "platform": "macos",
          "count": 7,
          "share": 0.8571428571428571,
          "part": 0.04794520547945205,
          "compliant": 6,
          "on_notice": 1,
          "unproven": 0,
          "non_compliant": 0,
          "waived": 0
        }
      ]
    }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["list", "devices", "--by", "platform", "--format", "csv"]), @r"
    $ fencepost list devices --by platform --format csv
    platform,count,share,part,compliant,on_notice,unproven,non_compliant,waived
    android,69,0.9710144927536232,0.4726027397260274,67,0,0,2,2
    linux,30,0.9,0.2054794520547945,27,1,0,2,0
    windows,23,0.8695652173913043,0.15753424657534246,20,0,0,3,0
    ios,17,0.9411764705882353,0.11643835616438356,16,0,1,0,0
    macos,7,0.8571428571428571,0.04794520547945205,6,1,0,0,0
    ");
}

#[test]
fn list_sources() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "sources", "--format", "json"]), @r#"
    $ fencepost list sources --format json
    {
      "schema": 1,
      "as_of": "2027-03-14T06:00:00Z",
      "past_valid_until": 0,
      "untold": 0,
      "untold_because": {},
      "rows": [
        {
          "source": "agents",
          "about": "devices",
          "lists": 72,
          "absent": 0,
          "last_import": "2027-03-14T06:00:00Z",
          "newest": "2027-03-14T03:37:00Z",
          "median": "2027-03-14T00:19:00Z",
          "expected_every": "1d",
          "late": false,
          "set_aside": 0
        },
        {
          "source": "handhelds",
          "about": "devices",
          "lists": 86,
          "absent": 0,
          "last_import": "2027-03-14T06:00:00Z",
          "newest": "2027-03-14T04:30:00Z",
          "median": "2027-03-14T04:30:00Z",
          "expected_every": "1d",
          "late": false,
          "set_aside": 0
        },
        {
          "source": "crew-list",
          "about": "people",
          "lists": 90,
          "absent": 0,
          "last_import": "2027-03-01T06:00:00Z",
          "newest": null,
          "median": null,
          "expected_every": null,
          "late": null,
          "set_aside": 0
        },
        {
          "source": "accepted-terms",
          "about": "terms",
          "lists": 56,
          "absent": 0,
          "last_import": "2027-03-01T06:00:00Z",
          "newest": null,
          "median": null,
          "expected_every": null,
          "late": null,
          "set_aside": 0
        },
        {
          "source": "setup",
          "about": "settings",
          "lists": 13,
          "absent": 0,
          "last_import": "2027-03-09T06:00:00Z",
          "newest": null,
          "median": null,
          "expected_every": null,
          "late": null,
          "set_aside": 0
        },
        {
          "source": "device-desk",
          "about": "commands",
          "lists": 0,
          "absent": 0,
          "last_import": "2027-03-12T06:00:00Z",
          "newest": null,
          "median": null,
          "expected_every": null,
          "late": null,
          "set_aside": 0
        },
        {
          "source": "terminal-log",
          "about": "signins",
          "lists": 0,
          "absent": 0,
          "last_import": null,
          "newest": null,
          "median": null,
          "expected_every": null,
          "late": null,
          "set_aside": 0
        }
      ]
    }
    "#);
}

#[test]
fn list_groups() {
    insta::assert_snapshot!(shown_by_the_demo(&["list", "groups", "--format", "csv"]), @r#"
    $ fencepost list groups --format csv
    group,of,members,share,compliant,on_notice,unproven,non_compliant,title
    every-device,devices,146,0.9315068493150684,136,2,1,7,Every device
    ticket-servers,devices,9,0.7777777777777778,7,1,0,1,"Ticket servers, all ships and terminals"
    kiosks,devices,21,0.9523809523809523,20,0,0,1,Passenger information
    bridge-tablets,devices,12,0.9166666666666666,11,0,0,1,Tablets on the bridge
    laptops,devices,30,0.8666666666666667,26,1,0,3,"Laptops, company and personal"
    crew-phones,devices,54,0.9629629629629629,52,0,1,1,Phones that the crew use for work
    holm-scanners,devices,5,1.0,5,0,0,0,
    sund-scanners,devices,5,1.0,5,0,0,0,
    ship-scanners,devices,5,1.0,5,0,0,0,
    shore,devices,45,0.9111111111111111,41,2,0,2,Everything that does not go to sea
    dry-dock,devices,1,1.0,1,0,0,0,Razorbill's aft kiosk is taken out for the refit
    bridge-devices,devices,18,0.9444444444444444,17,0,0,1,What the officers of the bridge carry
    crew,people,66,,,,,,Everybody aboard
    bridge,people,18,,,,,,Officers of the bridge
    staff,people,90,,,,,,Everybody
    "#);
}

#[test]
fn access() {
    insta::assert_snapshot!("access_format_json", shown_by_the_demo(&["access", "B-1034", "--format", "json"]));
    insta::assert_snapshot!(shown_by_the_demo(&["access", "B-1034", "--format", "jsonl"]), @r#"
    $ fencepost access B-1034 --format jsonl
    {"schema":1,"change":"lost","device":"puffin-bridge-1","person":"B-1034","person_name":"Ljusprett","service":"charts","client":"app","moment":"2027-03-14T06:00:00Z","decision":"deny","access_rule":"charts-on-the-bridge","cause":"finding","because":"charts-current","other_device":null,"access_rules":"charts-on-the-bridge","causes":"finding","call_first":true,"only_if_silent":false,"title":"Sea charts are of this year's edition","facts":"","due":"2027-03-14T06:00:00Z","do":"Let the tablet download the charts in port, over the quay's network.","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    {"schema":1,"change":"lost","device":"puffin-bridge-1","person":"B-1034","person_name":"Ljusprett","service":"mail","client":"app","moment":"2027-03-14T06:00:00Z","decision":"deny","access_rule":"good-device","cause":"finding","because":"charts-current","other_device":"puffin-laptop-master","access_rules":"good-device","causes":"finding","call_first":false,"only_if_silent":false,"title":"Sea charts are of this year's edition","facts":"","due":"2027-03-14T06:00:00Z","do":"Let the tablet download the charts in port, over the quay's network.","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    {"schema":1,"change":"lost","device":"puffin-bridge-1","person":"B-1034","person_name":"Ljusprett","service":"roster","client":"app","moment":"2027-03-14T06:00:00Z","decision":"deny","access_rule":"good-device","cause":"finding","because":"charts-current","other_device":"puffin-laptop-master","access_rules":"good-device","causes":"finding","call_first":false,"only_if_silent":false,"title":"Sea charts are of this year's edition","facts":"","due":"2027-03-14T06:00:00Z","do":"Let the tablet download the charts in port, over the quay's network.","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    {"schema":1,"change":"reduced","device":"puffin-bridge-1","person":"B-1034","person_name":"Ljusprett","service":"mail","client":"browser","moment":"2027-03-14T06:00:00Z","decision":"permit with no download","access_rule":"browser-with-limits","cause":"finding","because":"charts-current","other_device":"puffin-laptop-master","access_rules":"browser-with-limits","causes":"finding","call_first":false,"only_if_silent":false,"title":"Sea charts are of this year's edition","facts":"","due":"2027-03-14T06:00:00Z","do":"Let the tablet download the charts in port, over the quay's network.","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    {"schema":1,"change":"reduced","device":"puffin-bridge-1","person":"B-1034","person_name":"Ljusprett","service":"roster","client":"browser","moment":"2027-03-14T06:00:00Z","decision":"permit with no download","access_rule":"browser-with-limits","cause":"finding","because":"charts-current","other_device":"puffin-laptop-master","access_rules":"browser-with-limits","causes":"finding","call_first":false,"only_if_silent":false,"title":"Sea charts are of this year's edition","facts":"","due":"2027-03-14T06:00:00Z","do":"Let the tablet download the charts in port, over the quay's network.","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    {"schema":1,"change":"losing","device":"puffin-bridge-1","person":"B-1034","person_name":"Ljusprett","service":"wiki","client":"browser","moment":"2027-03-17T03:16:00Z","decision":"permit with step-up","access_rule":"handbook-for-known-devices","cause":"condition","because":"","other_device":null,"access_rules":"handbook-for-known-devices","causes":"condition","call_first":false,"only_if_silent":true,"title":"","facts":"device.managed","due":null,"do":"","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    {"schema":1,"change":"losing","device":"puffin-laptop-master","person":"B-1034","person_name":"Ljusprett","service":"wiki","client":"browser","moment":"2027-03-17T00:36:00Z","decision":"permit with step-up","access_rule":"handbook-for-known-devices","cause":"condition","because":"","other_device":null,"access_rules":"handbook-for-known-devices","causes":"condition","call_first":false,"only_if_silent":true,"title":"","facts":"device.managed","due":null,"do":"","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    {"schema":1,"change":"losing","device":"puffin-phone-9","person":"B-1034","person_name":"Ljusprett","service":"wiki","client":"browser","moment":"2027-03-16T04:30:00Z","decision":"permit with step-up","access_rule":"handbook-for-known-devices","cause":"condition","because":"","other_device":null,"access_rules":"handbook-for-known-devices","causes":"condition","call_first":false,"only_if_silent":true,"title":"","facts":"device.managed","due":null,"do":"","site":"Puffin","unit":"ships/puffin/bridge","mail":"ljusprett@bredesound.example","phone":null,"lead":null}
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["access", "B-1034", "--format", "csv"]), @r#"
    $ fencepost access B-1034 --format csv
    change,device,person,person_name,service,client,moment,decision,access_rule,cause,because,other_device,call_first,only_if_silent,title,facts,due,do,site,unit,mail,phone,lead,access_rules,causes
    lost,puffin-bridge-1,B-1034,Ljusprett,charts,app,2027-03-14T06:00:00Z,deny,charts-on-the-bridge,finding,charts-current,,true,false,Sea charts are of this year's edition,,2027-03-14T06:00:00Z,"Let the tablet download the charts in port, over the quay's network.",Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,charts-on-the-bridge,finding
    lost,puffin-bridge-1,B-1034,Ljusprett,mail,app,2027-03-14T06:00:00Z,deny,good-device,finding,charts-current,puffin-laptop-master,false,false,Sea charts are of this year's edition,,2027-03-14T06:00:00Z,"Let the tablet download the charts in port, over the quay's network.",Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,good-device,finding
    lost,puffin-bridge-1,B-1034,Ljusprett,roster,app,2027-03-14T06:00:00Z,deny,good-device,finding,charts-current,puffin-laptop-master,false,false,Sea charts are of this year's edition,,2027-03-14T06:00:00Z,"Let the tablet download the charts in port, over the quay's network.",Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,good-device,finding
    reduced,puffin-bridge-1,B-1034,Ljusprett,mail,browser,2027-03-14T06:00:00Z,permit with no download,browser-with-limits,finding,charts-current,puffin-laptop-master,false,false,Sea charts are of this year's edition,,2027-03-14T06:00:00Z,"Let the tablet download the charts in port, over the quay's network.",Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,browser-with-limits,finding
    reduced,puffin-bridge-1,B-1034,Ljusprett,roster,browser,2027-03-14T06:00:00Z,permit with no download,browser-with-limits,finding,charts-current,puffin-laptop-master,false,false,Sea charts are of this year's edition,,2027-03-14T06:00:00Z,"Let the tablet download the charts in port, over the quay's network.",Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,browser-with-limits,finding
    losing,puffin-bridge-1,B-1034,Ljusprett,wiki,browser,2027-03-17T03:16:00Z,permit with step-up,handbook-for-known-devices,condition,,,false,true,,device.managed,,,Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,handbook-for-known-devices,condition
    losing,puffin-laptop-master,B-1034,Ljusprett,wiki,browser,2027-03-17T00:36:00Z,permit with step-up,handbook-for-known-devices,condition,,,false,true,,device.managed,,,Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,handbook-for-known-devices,condition
    losing,puffin-phone-9,B-1034,Ljusprett,wiki,browser,2027-03-16T04:30:00Z,permit with step-up,handbook-for-known-devices,condition,,,false,true,,device.managed,,,Puffin,ships/puffin/bridge,ljusprett@bredesound.example,,,handbook-for-known-devices,condition
    "#);
}

#[test]
fn assess() {
    insta::assert_snapshot!(shown_by_the_demo(&["assess", "--format", "json"]), @r#"
    $ fencepost assess --format json
    {
      "schema": 1,
      "assessment": 14,
      "as_of": "2027-03-14T06:00:00Z",
      "devices": {
        "total": 146,
        "compliant": 136,
        "on_notice": 2,
        "unproven": 1,
        "non_compliant": 7,
        "waived": 2,
        "uncovered": 0,
        "stale": 0
      },
      "rules": [
        {
          "rule": "handheld-encrypted",
          "stage": "enforced",
          "pass": 80,
          "fail": 0,
          "unknown": 1,
          "not_applicable": 65,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "not-rooted",
          "stage": "enforced",
          "pass": 85,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 60,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "android-supported",
          "stage": "enforced",
          "pass": 68,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 77,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 1
        },
        {
          "rule": "phone-lock",
          "stage": "enforced",
          "pass": 74,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 72,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "bridge-lock",
          "stage": "enforced",
          "pass": 10,
          "fail": 2,
          "unknown": 0,
          "not_applicable": 134,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 2
        },
        {
          "rule": "charts-current",
          "stage": "enforced",
          "pass": 11,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 134,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "disk-encrypted",
          "stage": "enforced",
          "pass": 29,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 116,
          "nothing_to_check": 1,
          "excepted": 0,
          "awaiting": 1,
          "waived": 0
        },
        {
          "rule": "laptop-lock",
          "stage": "enforced",
          "pass": 28,
          "fail": 1,
          "unknown": 1,
          "not_applicable": 116,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "laptop-supported",
          "stage": "enforced",
          "pass": 30,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 116,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "firewall-on",
          "stage": "trial",
          "pass": 28,
          "fail": 2,
          "unknown": 0,
          "not_applicable": 116,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "certificate-valid",
          "stage": "enforced",
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 137,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "agent-recent",
          "stage": "enforced",
          "pass": 60,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 86,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "kiosk/disk.free_bytes",
          "stage": "enforced",
          "pass": 20,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 126,
          "nothing_to_check": 0,
          "excepted": 1,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "kiosk/processes.guardd",
          "stage": "enforced",
          "pass": 19,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 126,
          "nothing_to_check": 0,
          "excepted": 1,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "kiosk/processes.soundings",
          "stage": "enforced",
          "pass": 20,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 126,
          "nothing_to_check": 0,
          "excepted": 1,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "kiosk/processes",
          "stage": "trial",
          "pass": 20,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 126,
          "nothing_to_check": 0,
          "excepted": 1,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "laptop/software.seedpool",
          "stage": "enforced",
          "pass": 29,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 116,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "laptop/software.peepcam",
          "stage": "enforced",
          "pass": 30,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 116,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "laptop/software.hullplan",
          "stage": "enforced",
          "pass": 30,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 116,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "ticket-server/processes.guardd",
          "stage": "enforced",
          "pass": 9,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 137,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "ticket-server/sshd.permit_root_login",
          "stage": "enforced",
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 137,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "ticket-server/log.retention_days",
          "stage": "enforced",
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 137,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "ticket-server/queue.workers",
          "stage": "trial",
          "pass": 8,
          "fail": 1,
          "unknown": 0,
          "not_applicable": 137,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "ticket-server/processes.ticketd",
          "stage": "enforced",
          "pass": 9,
          "fail": 0,
          "unknown": 0,
          "not_applicable": 137,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        },
        {
          "rule": "drift/ticket-servers",
          "stage": "trial",
          "pass": 7,
          "fail": 2,
          "unknown": 0,
          "not_applicable": 137,
          "nothing_to_check": 0,
          "excepted": 0,
          "awaiting": 0,
          "waived": 0
        }
      ],
      "opened": [],
      "closed": [],
      "overdue": [
        {
          "device": "puffin-bridge-1",
          "rule": "charts-current",
          "opened": "2027-03-02T06:00:00Z",
          "due": "2027-03-14T06:00:00Z",
          "phase": "overdue",
          "how": null
        }
      ]
    }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["assess", "--format", "csv"]), @r"
    $ fencepost assess --format csv
    rule,stage,pass,fail,unknown,not_applicable,nothing_to_check,excepted,awaiting
    handheld-encrypted,enforced,80,0,1,65,0,0,0
    not-rooted,enforced,85,1,0,60,0,0,0
    android-supported,enforced,68,1,0,77,0,0,0
    phone-lock,enforced,74,0,0,72,0,0,0
    bridge-lock,enforced,10,2,0,134,0,0,0
    charts-current,enforced,11,1,0,134,0,0,0
    disk-encrypted,enforced,29,1,0,116,1,0,1
    laptop-lock,enforced,28,1,1,116,0,0,0
    laptop-supported,enforced,30,0,0,116,0,0,0
    firewall-on,trial,28,2,0,116,0,0,0
    certificate-valid,enforced,8,1,0,137,0,0,0
    agent-recent,enforced,60,0,0,86,0,0,0
    kiosk/disk.free_bytes,enforced,20,0,0,126,0,1,0
    kiosk/processes.guardd,enforced,19,1,0,126,0,1,0
    kiosk/processes.soundings,enforced,20,0,0,126,0,1,0
    kiosk/processes,trial,20,0,0,126,0,1,0
    laptop/software.seedpool,enforced,29,1,0,116,0,0,0
    laptop/software.peepcam,enforced,30,0,0,116,0,0,0
    laptop/software.hullplan,enforced,30,0,0,116,0,0,0
    ticket-server/processes.guardd,enforced,9,0,0,137,0,0,0
    ticket-server/sshd.permit_root_login,enforced,8,1,0,137,0,0,0
    ticket-server/log.retention_days,enforced,8,1,0,137,0,0,0
    ticket-server/queue.workers,trial,8,1,0,137,0,0,0
    ticket-server/processes.ticketd,enforced,9,0,0,137,0,0,0
    drift/ticket-servers,trial,7,2,0,137,0,0,0
    ");
}

#[test]
fn show() {
    insta::assert_snapshot!(
        "show_tern-phone-5_format_json",
        shown_by_the_demo(&["show", "tern-phone-5", "--format", "json"])
    );
}

#[test]
fn why() {
    insta::assert_snapshot!(
        "why_puffin-bridge-1_charts-current_format_json",
        shown_by_the_demo(&["why", "puffin-bridge-1", "charts-current", "--format", "json"])
    );
}

#[test]
fn history() {
    insta::assert_snapshot!(shown_by_the_demo(&["history", "petrel-tickets", "--format", "json"]), @r#"
    $ fencepost history petrel-tickets --format json
    {
      "schema": 1,
      "device": "petrel-tickets",
      "as_of": "2027-03-14T06:00:00Z",
      "collections": 8,
      "happenings": [
        {
          "schema": 1,
          "device": "petrel-tickets",
          "at": "2027-02-28T20:52:00Z",
          "what": "first-seen",
          "source": "agents",
          "facts": 17,
          "earlier_removed": false
        },
        {
          "schema": 1,
          "device": "petrel-tickets",
          "at": "2027-03-01T06:00:00Z",
          "what": "standing",
          "before": null,
          "standing": "compliant"
        },
        {
          "schema": 1,
          "device": "petrel-tickets",
          "at": "2027-03-07T06:00:00Z",
          "what": "opened",
          "rule": "silence"
        },
        {
          "schema": 1,
          "device": "petrel-tickets",
          "at": "2027-03-07T06:00:00Z",
          "what": "standing",
          "before": "compliant",
          "standing": "on-notice"
        },
        {
          "schema": 1,
          "device": "petrel-tickets",
          "at": "2027-03-11T06:00:00Z",
          "what": "due",
          "rule": "silence"
        },
        {
          "schema": 1,
          "device": "petrel-tickets",
          "at": "2027-03-11T06:00:00Z",
          "what": "closed",
          "rule": "silence",
          "how": "answered"
        },
        {
          "schema": 1,
          "device": "petrel-tickets",
          "at": "2027-03-11T06:00:00Z",
          "what": "standing",
          "before": "on-notice",
          "standing": "compliant"
        }
      ],
      "events": [
        {
          "at": "2027-02-28T20:52:00Z",
          "assessment": null,
          "what": "facts",
          "rule": null,
          "because": null,
          "before": null,
          "after": null
        },
        {
          "at": "2027-03-01T06:00:00Z",
          "assessment": 1,
          "what": "standing",
          "rule": null,
          "because": null,
          "before": null,
          "after": "compliant"
        },
        {
          "at": "2027-03-07T06:00:00Z",
          "assessment": 7,
          "what": "opened",
          "rule": "silence",
          "because": null,
          "before": null,
          "after": "2027-03-11T06:00:00Z"
        },
        {
          "at": "2027-03-07T06:00:00Z",
          "assessment": 7,
          "what": "standing",
          "rule": null,
          "because": null,
          "before": "compliant",
          "after": "on-notice"
        },
        {
          "at": "2027-03-11T06:00:00Z",
          "assessment": 11,
          "what": "fell-due",
          "rule": "silence",
          "because": null,
          "before": null,
          "after": "2027-03-11T06:00:00Z"
        },
        {
          "at": "2027-03-11T06:00:00Z",
          "assessment": 11,
          "what": "closed",
          "rule": "silence",
          "because": "answered",
          "before": null,
          "after": null
        },
        {
          "at": "2027-03-11T06:00:00Z",
          "assessment": 11,
          "what": "standing",
          "rule": null,
          "because": null,
          "before": "on-notice",
          "after": "compliant"
        }
      ]
    }
    "#);
    insta::assert_snapshot!(shown_by_the_demo(&["history", "--verify", "--format", "json"]), @r#"
    $ fencepost history --verify --format json
    {
      "schema": 1,
      "whole": true,
      "runs": 59,
      "devices": 146,
      "documents": 179,
      "findings": 44,
      "spells": 1416,
      "rule_sets": 1,
      "problems": []
    }
    "#);
}

#[test]
fn vet() {
    insta::assert_snapshot!(shown_by_the_demo(&["vet", "--format", "json"]), @r#"
    $ fencepost vet --format json
    {
      "schema": 1,
      "as_of": "2027-03-14T06:00:00Z",
      "files": 20,
      "rules": 26,
      "devices": 146,
      "examples": 6,
      "errors": 0,
      "warnings": 2,
      "notes": 6,
      "mistakes": [
        {
          "file": "rules/handhelds.toml",
          "line": 71,
          "column": 13,
          "end_line": 71,
          "end_column": 27,
          "level": "warning",
          "code": "covers-nobody",
          "message": "rule `watch-lock` covers no device",
          "label": "holds for none of 146 devices",
          "help": "see what it asks for with: fencepost list devices --where 'role = \"watch\"'",
          "also": []
        },
        {
          "file": "controls.toml",
          "line": 12,
          "column": 10,
          "end_line": 12,
          "end_column": 33,
          "level": "warning",
          "code": "clause-without-rule",
          "message": "no enforced rule answers for `Port security order 9`",
          "label": "What is carried ashore takes no connection it did not ask for",
          "help": "rule `firewall-on` would, once it is enforced",
          "also": []
        },
        {
          "file": "groups.toml",
          "line": 41,
          "column": 9,
          "end_line": 41,
          "end_column": 16,
          "level": "note",
          "code": "group-without-use",
          "message": "nothing names group `shore`",
          "label": "",
          "help": "name it in a rule, a baseline or an access rule, or take it away",
          "also": []
        },
        {
          "file": "groups.toml",
          "line": 51,
          "column": 12,
          "end_line": 51,
          "end_column": 28,
          "level": "note",
          "code": "group-without-use",
          "message": "nothing names group `bridge-devices`",
          "label": "",
          "help": "name it in a rule, a baseline or an access rule, or take it away",
          "also": []
        },
        {
          "file": "terms.toml",
          "line": 4,
          "column": 11,
          "end_line": 4,
          "end_column": 24,
          "level": "note",
          "code": "terms-of-other-version",
          "message": "1 person accepted `own-devices` in another version than 2026",
          "label": "",
          "help": "they have it to accept again: fencepost access --only terms",
          "also": []
        },
        {
          "file": "waivers.toml",
          "line": 4,
          "column": 15,
          "end_line": 4,
          "end_column": 41,
          "level": "note",
          "code": "waiver-over",
          "message": "waiver `bridge-lock-until-agreed` is over",
          "label": "",
          "help": "take it out once nobody needs to look it up",
          "also": []
        },
        {
          "file": "rules/handhelds.toml",
          "line": 39,
          "column": 13,
          "end_line": 39,
          "end_column": 36,
          "level": "note",
          "code": "everybody-meets",
          "message": "all 74 devices meet this, and none ever failed rule `phone-lock`",
          "label": "the highest is 5",
          "help": "if it could be stricter, preview a stricter one",
          "also": []
        },
        {
          "file": "baselines/unattended.toml",
          "line": 9,
          "column": 1,
          "end_line": 9,
          "end_column": 18,
          "level": "note",
          "code": "everybody-meets",
          "message": "all 20 devices meet this, and none ever failed rule `kiosk/disk.free_bytes`",
          "label": "the lowest is 2100000000",
          "help": "if it could be stricter, preview a stricter one",
          "also": []
        }
      ]
    }
    "#);
}

#[test]
fn preview() {
    insta::assert_snapshot!(shown_by_the_demo(&["preview", "--format", "json"]), @r#"
    $ fencepost preview --format json
    {
      "schema": 1,
      "as_of": "2027-03-14T06:00:00Z",
      "against": 14,
      "devices": 146,
      "opened": 0,
      "closed": 0,
      "decided_otherwise_anyway": 0,
      "definitions": [],
      "decisions": [],
      "people": [],
      "due": [],
      "losing": [],
      "messages": [
        {
          "channel": "mail",
          "step": "where-is-it",
          "deliveries": 1,
          "people": 1,
          "before": 1
        },
        {
          "channel": "tickets",
          "step": "ticket",
          "deliveries": 1,
          "people": 1,
          "before": 1
        }
      ],
      "verdicts": [],
      "standings": [],
      "groups": []
    }
    "#);
}

#[test]
fn tried() {
    insta::assert_snapshot!(shown_by_the_demo(&["try", "disk.encrypted", "--device", "puffin-laptop-chief", "--format", "json"]), @r#"
    $ fencepost try disk.encrypted --device puffin-laptop-chief --format json
    {"schema":1,"value":null,"type":null,"outcome":"unknown","reason":"missing","evidence":{"kind":"comparison","subject":"disk.encrypted","path":"disk.encrypted","observed":"not collected","required":"true","outcome":"unknown","facts":[{"fact":"disk.encrypted","value":"not collected","source":null,"collected_at":null,"corrected_by":null}],"blame":{"fact":"disk.encrypted","reason":"missing"}}}
    "#);
}
