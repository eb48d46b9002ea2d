//! The help of every command.

use crate::env::Env;

#[test]
fn every_command_has_its_help() {
    let env = Env::new();
    insta::assert_snapshot!(env.shows(&["--help"]), @r"
    $ fencepost --help
    Which devices are not in the shape you agreed on, why, since when, and who loses access

    Usage: fencepost [OPTIONS] <COMMAND>

    Commands:
      init      Write a commented starter workspace
      demo      Make the demo workspace: a ferry company's fleet over fourteen days
      import    Bring collected state and lists of people in
      list      List devices, facts, sources, people, rules, findings and what else there is
      show      Show all that is known of a device, a person, a rule, a baseline, a service or a group
      vet       Find mistakes before they bite
      assess    Evaluate the devices that may have changed, move the findings, and decide who reaches
                what
      try       Try an expression out: its value, its outcome, and which part decided
      why       Prove a verdict: what was observed, what is required, and where it comes from
      access    Show who loses access, why, since when, and what to do
      drift     Compare devices that ought to be alike: who differs in what, and since when
      forecast  What comes next if nothing comes in: what falls due, becomes too old, is lost, will be
                sent, ends
      contrast  Find what sets two groups of devices apart
      history   Tell how the fleet went, assessment by assessment; or what became of a device
      trim      Remove history older than [history] keep says
      source    Help with feeds: draft the [[source]] of an unknown file
      facts     Help with the dictionary: draft what facts.toml could say
      baseline  What machines of one kind are expected to look like
      preview   Say what edited rules would change on today's fleet, before they are in force
      report    Write a report to be handed on: of the fleet, a site, a group, a rule, a device, to a
                person, or clause by clause
      waive     Let devices be without what a rule asks for, up to a day
      send      Carry out what findings set off: messages, tickets and commands
      schema    Print the JSON Schema of a workspace file, for editors
      help      Print this message or the help of the given subcommand(s)

    Options:
      -h, --help
              Print help (see a summary with '-h')

      -V, --version
              Print version

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost demo                    look at a ferry company's fleet, filled and assessed
      fencepost init fleet              start a workspace of your own
      fencepost import exports/         bring collected state in
      fencepost vet                     find mistakes in the rules before they bite
      fencepost assess                  evaluate every device
      fencepost access                  who loses what, and what to do
      fencepost why tern-tickets        the proof

    Exit codes:
      0  done
      1  done, and what --fail-on names was found; of vet: an error, where it names nothing
      2  the command line or the workspace has a mistake
      4  the ledger could not be read or written
    ");
    insta::assert_snapshot!(env.shows(&["init", "--help"]), @r#"
    $ fencepost init --help
    Write a commented starter workspace

    The files pass every check as they are, and say in comments what to change first.

    Usage: fencepost init [OPTIONS] [DIR]

    Arguments:
      [DIR]
              The folder, made when there is none
              
              [default: .]

    Options:
          --with <KIND,..>
              Begin with baselines for these kinds of machines

              Possible values:
              - laptops: Lock, password, firewall, programs
              - phones:  Integrity, encryption, lock, updates
              - servers: Root login, logs, room, certificates, protection

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost init                                  in this folder
      fencepost init fleet                            in a new folder
      fencepost init fleet --with laptops,phones      with baselines to begin with, on trial
    "#);
    insta::assert_snapshot!(env.shows(&["demo", "--help"]), @r#"
    $ fencepost demo --help
    Make the demo workspace: a ferry company's fleet over fourteen days

    It writes workspace and feeds into DIR, imports and assesses day by day, and shows what the last
    morning brings. Everything in it is made up.

    Usage: fencepost demo [OPTIONS] [DIR]

    Arguments:
      [DIR]
              The folder; one that an earlier demo made is made again
              
              [default: fencepost-demo]

    Options:
      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost demo             into fencepost-demo in this folder
      fencepost demo /tmp/ferry
    "#);
    insta::assert_snapshot!(env.shows(&["import", "--help"]), @r"
    $ fencepost import --help
    Bring collected state and lists of people in

    Each file goes in whole or not at all; bad records are set aside with their line and reason. A file
    that was imported before has no effect. Files compressed with gzip or zstd are read as what they
    hold.

    Limits: a record of 16 MiB, 127 levels of nesting and 100,000 fields; a compressed file decompresses
    to 8 GiB at the most.

    Usage: fencepost import [OPTIONS] <FILE>...

    Arguments:
      <FILE>...
              Files, folders, or - for standard input

    Options:
          --source <ID>
              The source that the files belong to, whatever they are called

          --strict
              Refuse a file with a bad record instead of setting the record aside

          --accept-missing
              Believe a complete list about who is missing, even when that is more than a fifth

          --dry-run
              Only say what would be done

          --format <FORMAT>
              How to write what became of the files; lines and CSV have a row for each

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

          --as-of <TIME>
              Import as of TIME (only in a workspace with a stepped clock)

          --far-ahead
              Go by --as-of although it lies more than ten years after the newest state

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost import exports/                   every file there that a [[source]] claims
      fencepost import --source handhelds new.csv
      fencepost import --dry-run exports/         what each file is taken for, and what it would change
      collect | fencepost import -                documents from a pipe
    ");
    insta::assert_snapshot!(env.shows(&["list", "--help"]), @r#"
    $ fencepost list --help
    List devices, facts, sources, people, rules, findings and what else there is

    --where takes a condition over the columns; for devices over their facts, and `standing`.

    Usage: fencepost list [OPTIONS] <KIND> [FACT]

    Arguments:
      <KIND>
              What to list

              Possible values:
              - devices:       Devices, with their standing
              - facts:         Facts that devices report, with their commonest values
              - items:         Items of a list over the fleet: how many devices have each
              - sites:         Where devices belong, with how many are compliant
              - rules:         Rules, with what they came to
              - baselines:     Baselines, with how many devices meet all, some or none of them
              - families:      Families of rules, which share what stands before the slash, with the
                same
              - coverage:      Topics by platform and role: who is covered, and who was left out
              - groups:        Groups, with how many belong to them
              - verdicts:      Verdicts, device by device, with what was observed
              - findings:      Findings that run, the longest overdue first
              - waivers:       Waivers, with what they cover and until when
              - actions:       Actions that findings set off, and how far they have come
              - deliveries:    Messages, tickets and commands that went out, newest first
              - bundles:       Sets of settings, with how many devices should have them
              - settings:      Settings that another tool was asked to apply, and how far they got
              - people:        People, with their devices
              - services:      Services, with who reaches them
              - access:        Access rules, with whom they hit
              - assessments:   Assessments, newest first
              - sources:       Feeds, with when they last came and how old they are
              - corrections:   Facts set by hand, with what the feeds say
              - rejects:       Records that imports set aside
              - disagreements: On what feeds do not agree: ids, holders, facts; since when

      [FACT]
              Of items: the fact whose items are listed

    Options:
          --where <CONDITION>
              Only rows for which CONDITION holds

          --sort <COLUMN>
              Sort by COLUMN; -COLUMN the other way round

          --columns <COLUMN,..>
              Show these columns; for devices also facts. `help` tells which there are

          --by <COLUMN,..>
              Count the rows by the values of COLUMN, or of several together; for devices also of facts

          --changes
              Of bundles: who enters and who leaves, and whether that was handed over

          --unnamed
              Of items: only those that no baseline names

          --all
              Of verdicts: also those of rules that do not cover the device

          --fix
              Of disagreements: the lines that would settle them; nothing is written

          --as-of <TIME>
              Tell it as of TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost list devices --where 'standing != "compliant" and platform = "android"'
      fencepost list devices --columns device,os.version --sort os.version
      fencepost list devices --by platform,ownership
      fencepost list verdicts --where 'rule = "laptop-lock" and outcome = "fail"'
      fencepost list items software --unnamed
      fencepost list rules --columns help         which columns there are, and what they mean
      fencepost list findings --where 'phase = "overdue"'
      fencepost list people --where 'starts with(unit, "ships/tern")' --format csv
    "#);
    insta::assert_snapshot!(env.shows(&["show", "--help"]), @r"
    $ fencepost show --help
    Show all that is known of a device, a person, a rule, a baseline, a service or a group

    Of a device its standing, holders and groups, its findings, what its people may reach with it, and
    every fact with its source and age; of a person the devices and what may be reached with them. Of a
    rule whom it reaches, who fails it and with what, what hangs on it and how it went; of a baseline
    how many meet it; of a service who gets in and who does not; of a group how its devices stand.

    Usage: fencepost show [OPTIONS] <ID>

    Arguments:
      <ID>
              The device, rule, baseline, service or group; the person by id or name

    Options:
          --kind <KIND>
              What is meant, where several things have the id
              
              [possible values: device, person, rule, baseline, service, group]

          --as-of <TIME>
              Show it as of TIME

          --format <FORMAT>
              How to write the result; lines and CSV give the rows of its table: facts, devices,
              sign-ins

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost show tern-tickets
      fencepost show B-1056                       a person, by id or name
      fencepost show laptop-lock                  a rule: who fails it, with what, since when
      fencepost show kiosk                        a baseline: who meets all of it
      fencepost show mail --kind service
      fencepost show tern-tickets --format json
    ");
    insta::assert_snapshot!(env.shows(&["vet", "--help"]), @r#"
    $ fencepost vet --help
    Find mistakes before they bite

    Looks through the files of the workspace, tries every rule on the devices that are known, drafts
    too, and holds the rules against the examples. Nothing is written.

    Usage: fencepost vet [OPTIONS] [FILE]...

    Arguments:
      [FILE]...
              Tell of these files or folders alone

    Options:
          --fail-on <LEVEL>
              Exit with 1 when there is something as bad as this

              Possible values:
              - error:   Nothing runs until it is mended, or an example does not hold
              - warning: It runs, but probably not as meant
              - note:    Worth a look
              
              [default: error]

          --as-of <TIME>
              Look as of TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              - sarif: SARIF 2.1.0, for editors and pipelines
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost vet
      fencepost vet rules/laptops.toml                what there is to say of one file
      fencepost vet --fail-on warning                 in a pipeline that wants no warning either
      fencepost vet --format sarif > vet.sarif        for an editor, or a reviewer of changes
    "#);
    insta::assert_snapshot!(env.shows(&["assess", "--help"]), @r#"
    $ fencepost assess --help
    Evaluate the devices that may have changed, move the findings, and decide who reaches what

    With --state FILE it evaluates the documents of a file instead, without reading or writing a ledger.

    Usage: fencepost assess [OPTIONS]

    Options:
          --state <FILE>
              Evaluate the documents of FILE (- for standard input) without a ledger

          --source <ID>
              With --state: the source that the file belongs to

          --all
              With --state: give every rule's verdict, passes too

          --evidence
              With --state: give the proof of each verdict

          --workers <COUNT>
              Work on so many cores, instead of on all

          --anew
              Evaluate every device, and not only those about which something may have changed

          --verdicts <FILE>
              Take over the verdicts of FILE (- for standard input) that were made of the same state by
              the same rules
              
              FILE is what assess --state wrote elsewhere, with --all and as JSON Lines, in a copy of
              this workspace with its key (.fencepost/key). What does not bear the seal that belongs to
              a device's state is evaluated here.

          --strict
              Fail when a line of the input was refused

          --by <FACT>
              Draw the fence by the values of a fact, or by `groups`

          --fail-on <WHAT>
              Exit with 1 when this was found

              Possible values:
              - overdue:     A device is non-compliant or unproven
              - any:         A device is not compliant
              - lost-access: Somebody lost access since the assessment before

          --as-of <TIME>
              Judge as of TIME; with a ledger only in a workspace with a stepped clock

          --far-ahead
              Go by --as-of although it lies more than a year after the newest state

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost assess
      fencepost assess --by groups                        the fence by groups
      fencepost assess --fail-on overdue --quiet          for a script: exit 1 when something is overdue
      fencepost assess --state fleet.jsonl --format jsonl verdicts for each device of a file
      collect | fencepost assess --state - --format jsonl the same in a pipe
      fencepost assess --verdicts verdicts.jsonl          with what --state FILE --all wrote elsewhere
    "#);
    insta::assert_snapshot!(env.shows(&["try", "--help"]), @r#"
    $ fencepost try --help
    Try an expression out: its value, its outcome, and which part decided

    Against a device of the ledger, a JSON document, or nothing. Without EXPRESSION it reads one a line
    and gives one answer a line.

    Usage: fencepost try [OPTIONS] [EXPRESSION]

    Arguments:
      [EXPRESSION]
              The expression; - reads it from standard input

    Options:
          --device <DEVICE>
              A device of the ledger

          --facts <FILE>
              A file with one JSON object

          --explain
              Say it in plain English too

          --as-of <TIME>
              What `now()` is

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost try 'date("2027-01-31") + duration("P1M")'
      fencepost try 'every d in disks[writable] satisfies d.encrypted' --device puffin-laptop-chief
      fencepost try 'os.version >= version("12")' --facts device.json --format json
      echo '0.1 + 0.2' | fencepost try
    "#);
    insta::assert_snapshot!(env.shows(&["why", "--help"]), @r#"
    $ fencepost why --help
    Prove a verdict: what was observed, what is required, and where it comes from

    Without RULE it tells of every rule that is not met. Only the facts that decided are shown.

    Usage: fencepost why [OPTIONS] <DEVICE> [RULE]

    Arguments:
      <DEVICE>
              The device

      [RULE]
              The rule, or the part of its id before the slash

    Options:
          --as-of <TIME>
              Tell it as of TIME

          --as-told
              Tell it as the notice does that would be sent next

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost why tern-tickets
      fencepost why tern-tickets ticket-server/sshd.permit_root_login
      fencepost why puffin-bridge-1 --as-told
    "#);
    insta::assert_snapshot!(env.shows(&["access", "--help"]), @r#"
    $ fencepost access --help
    Show who loses access, why, since when, and what to do

    It tells what changed since the assessment before the latest (or since TIME), what the clock has
    done since, and what it will do if nothing else changes. Those come first who have no other way to a
    service.

    Usage: fencepost access [OPTIONS] [PERSON|DEVICE]
           fencepost access <COMMAND>

    Commands:
      explain    Explain one sign-in: what is decided, what became of every access rule, and what the
                 person would read
      readiness  Say what would come if a rule, a baseline or an access rule were enforced now
      replay     Decide a log of sign-ins again, on the state at each one's own moment, and tell where
                 it came otherwise
      help       Print this message or the help of the given subcommand(s)

    Arguments:
      [PERSON|DEVICE]
              Only this person, by id or name, or this device

    Options:
          --where <CONDITION>
              Only devices of which a condition holds

          --since <TIME>
              Compare with the last assessment at or before TIME

          --by <BY>
              Group the rows

              Possible values:
              - person:  One heading for each person
              - service: One heading for each service
              - site:    One heading for each site
              - rule:    One heading for each rule that denies access
              - cause:   One heading for each cause

          --only <ONLY>
              Show one part alone, and all of it

              Possible values:
              - call-first: Who lost a service and has no other way to it
              - lost:       Who lost a service
              - reduced:    Who is let in with more obligations than before
              - restored:   Who got a service back
              - losing:     Who will lose a service if nothing changes
              - terms:      Who has terms to accept first

          --denied
              Show everything that an access rule denies now

          --all
              With --denied: also what is denied since no access rule applies

          --columns <COLUMN,..>
              With --format csv: these columns alone, in this order

          --fail-on <WHAT>
              Exit with 1 when this was found

              Possible values:
              - lost-access: Somebody lost access
              - any:         Somebody lost access, or is about to

          --as-of <TIME>
              Tell it as of TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost access
      fencepost access --only call-first            whom to call, all of them
      fencepost access --by service
      fencepost access B-1034                       one person, or one device
      fencepost access --where 'site = "Puffin"'
      fencepost access --since 2027-03-10 --format csv
      fencepost access --denied                     all that is denied, whenever it began
      fencepost access explain --device puffin-bridge-1 --person Vravuld --service charts
      fencepost access readiness firewall-on        before a rule is enforced
      fencepost access replay sign-ins.jsonl        a log, decided again
    "#);
    insta::assert_snapshot!(env.shows(&["history", "--help"]), @r#"
    $ fencepost history --help
    Tell how the fleet went, assessment by assessment; or what became of a device

    Usage: fencepost history [OPTIONS] [DEVICE]

    Arguments:
      [DEVICE]
              The device; without one, the figures of the fleet

    Options:
          --last <N>
              The figures of so many assessments; with --per of so many days or weeks
              
              [default: 14]

          --per <day|week>
              One row a day or a week: how it was at the last assessment, and what happened since the
              row before

              Possible values:
              - day:  One row a day
              - week: One row a week

          --rule <RULE>
              The figures of one rule

          --group <GROUP>
              The figures of the devices of one group

          --service <SERVICE>
              The figures of one service

          --since <TIME>
              What is otherwise than at the last assessment at or before TIME

          --verify
              Read the whole ledger, and say what in it does not fit

          --as-of <TIME>
              Tell it up to TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost history
      fencepost history --last 60 --format csv
      fencepost history --since 2027-03-08           what is otherwise than on that day
      fencepost history --per week
      fencepost history --rule laptop-lock
      fencepost history --group kiosks
      fencepost history --service mail
      fencepost history tern-tickets
      fencepost history tern-tickets --format jsonl
      fencepost history --verify

    With --verify the exit code is 4 when something in the ledger does not fit.
    A copy for a backup: sqlite3 .fencepost/ledger.sqlite ".backup COPY", and .fencepost/key beside it;
    or copy the folder
    .fencepost while nothing runs.
    "#);
    insta::assert_snapshot!(env.shows(&["trim", "--help"]), @r#"
    $ fencepost trim --help
    Remove history older than [history] keep says

    What still holds is kept, however old it is; so is everything from the last assessment before that
    moment on.

    Usage: fencepost trim [OPTIONS]

    Options:
          --dry-run
              Only say what would be removed

          --as-of <TIME>
              Trim as of TIME (only in a workspace with a stepped clock)

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost trim --dry-run      what would be removed
      fencepost trim
    "#);
    insta::assert_snapshot!(env.shows(&["source", "--help"]), @r#"
    $ fencepost source --help
    Help with feeds: draft the [[source]] of an unknown file

    Usage: fencepost source [OPTIONS] <COMMAND>

    Commands:
      draft  Look at a file and draft the [[source]] by which it would be read
      help   Print this message or the help of the given subcommand(s)

    Options:
      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]
    "#);
    insta::assert_snapshot!(env.shows(&["facts", "--help"]), @r#"
    $ fencepost facts --help
    Help with the dictionary: draft what facts.toml could say

    Usage: fencepost facts [OPTIONS] <COMMAND>

    Commands:
      draft  Draft the entries of facts.toml that the fleet suggests: versions, moments, units, keys of
             lists, what always changes
      help   Print this message or the help of the given subcommand(s)

    Options:
      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]
    "#);
    insta::assert_snapshot!(env.shows(&["baseline", "--help"]), @r#"
    $ fencepost baseline --help
    What machines of one kind are expected to look like

    Usage: fencepost baseline [OPTIONS] <COMMAND>

    Commands:
      show    Show what a baseline came to, or what is expected of a device, and where each part is
              written
      derive  Write a baseline from devices that are as they should be, or from files of settings
      help    Print this message or the help of the given subcommand(s)

    Options:
      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]
    "#);
    insta::assert_snapshot!(env.shows(&["preview", "--help"]), @r#"
    $ fencepost preview --help
    Say what edited rules would change on today's fleet, before they are in force

    Assesses by the rules in force and by the edited ones, on the same state and at the same moment, and
    keeps nothing of it. Drafts take part, as if they were on trial.

    Usage: fencepost preview [OPTIONS] [FOLDER]

    Arguments:
      [FOLDER]
              A folder with the files of a workspace, instead of this one's

    Options:
          --save <FILE>
              Keep what is foreseen in FILE, as JSON

          --compare <FILE>
              Hold what was foreseen in FILE against the latest assessment

          --as-of <TIME>
              Compare as of TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost preview                 the workspace as it is edited, against the last assessment's
      rules
      fencepost preview ../proposal     the files of another folder, on this workspace's fleet
      fencepost preview --save foreseen.json
      fencepost preview --compare foreseen.json     after the assessment: what came otherwise
    "#);
    insta::assert_snapshot!(env.shows(&["schema", "--help"]), @r#"
    $ fencepost schema --help
    Print the JSON Schema of a workspace file, for editors

    An editor that knows the schema of a TOML file completes its keys, says what they mean, and marks
    what is wrong while it is written. Most look for a first line such as `#:schema
    ../.schemas/rules.json`.

    Usage: fencepost schema [OPTIONS] [FILE]

    Arguments:
      [FILE]
              Which file

              Possible values:
              - fencepost:   The workspace: its clock, its defaults, and the feeds that it takes state
                from
              - facts:       The fact dictionary: types, units and descriptions of facts
              - groups:      Groups of devices and people
              - access:      Services, and who may reach them with which device
              - terms:       Terms that people accept before a service lets them in
              - corrections: Facts set by hand
              - devices:     Devices that were retired or renamed
              - waivers:     Rules that devices need not meet up to a day, since somebody answers for it
              - responses:   What follows from findings, step by step
              - bundles:     Sets of settings that another tool applies, and which devices should have
                them
              - drift:       Devices that ought to be alike, and the differences between them that
                somebody accepted
              - rules:       Rules: what the devices that they cover must meet
              - baselines:   A baseline: what machines of one kind are expected to look like
              - controls:    Clauses of laws, norms and contracts that rules answer for
              - examples:    Examples: what rules are to say of made-up devices

    Options:
          --into <DIR>
              Write the schemas of all files into a folder, made when there is none

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost schema                      the kinds of workspace files
      fencepost schema rules                the schema of rules/*.toml
      fencepost schema --into .schemas      all of them, into a folder
    "#);
    insta::assert_snapshot!(env.shows(&["source", "draft", "--help"]), @r"
    $ fencepost source draft --help
    Look at a file and draft the [[source]] by which it would be read

    What is sure of the format, the id, the time, yes/no words, units and types stands as it would be
    used, each with its reason; what is not stands as a question. Devices and people that are known
    already help. Nothing is imported.

    Usage: fencepost source draft [OPTIONS] <FILE>

    Arguments:
      <FILE>
              The file, or - for standard input

    Options:
          --into
              Put the draft into fencepost.toml and facts.toml; comments there stay

          --check
              Tell what importing the file by the draft would do; nothing is imported

          --as-of <TIME>
              Check as of TIME (only in a workspace with a stepped clock)

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost source draft exports/unknown.csv
      fencepost source draft exports/unknown.csv --check   what would come of it
      fencepost source draft exports/unknown.csv --into    put into fencepost.toml and facts.toml
    ");
    insta::assert_snapshot!(env.shows(&["facts", "draft", "--help"]), @r#"
    $ fencepost facts draft --help
    Draft the entries of facts.toml that the fleet suggests: versions, moments, units, keys of lists,
    what always changes

    Usage: fencepost facts draft [OPTIONS]

    Options:
      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost facts draft
    "#);
    insta::assert_snapshot!(env.shows(&["baseline", "show", "--help"]), @r#"
    $ fencepost baseline show --help
    Show what a baseline came to, or what is expected of a device, and where each part is written

    Usage: fencepost baseline show [OPTIONS] [BASELINE]

    Arguments:
      [BASELINE]
              The baseline

    Options:
          --device <DEVICE>
              What holds for DEVICE, with what it says of it

          --as-of <TIME>
              Tell it as of TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost baseline show ticket-server
      fencepost baseline show ticket-server --device tern-tickets
      fencepost baseline show --device tern-tickets       all that is expected of it, from everywhere
    "#);
    insta::assert_snapshot!(env.shows(&["baseline", "derive", "--help"]), @r#"
    $ fencepost baseline derive --help
    Write a baseline from devices that are as they should be, or from files of settings

    Keeps what all of them agree on, leaves out what changes anyway or is each device's own, and says
    what it left out and why. Of lists it says what all of them have and what some do. The baseline is
    on trial until you have read it. Where the workspace has a baseline of this id, the differences to
    it are told instead.

    Usage: fencepost baseline derive [OPTIONS] --id <ID> [DEVICE|FILE]...

    Arguments:
      [DEVICE|FILE]...
              Devices that are as they should be, or files of settings

    Options:
          --from-set <SET>
              Take what most devices of SET hold, a [[drift]] of drift.toml

          --id <ID>
              The id of the baseline

          --out <FILE>
              Write it to FILE, which must not be there yet

          --only <PATTERN,..>
              Only facts whose path fits PATTERN, with * for any text

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost baseline derive fulmar-tickets gannet-tickets --id ticket-server --out
      baselines/ticket-server.toml
      fencepost baseline derive fulmar-tickets --id ssh --only 'sshd.*'
      fencepost baseline derive --from-set ticket-servers --id ticket-server
      fencepost baseline derive golden.ini --id golden              a property list, INI, key=value,
      JSON
    "#);
    insta::assert_snapshot!(env.shows(&["drift", "--help"]), @r#"
    $ fencepost drift --help
    Compare devices that ought to be alike: who differs in what, and since when

    Without more it tells every set and assembly of drift.toml in a line. A set may also be made for the
    occasion, with --by or --where. For each fact a device is held against the value that most hold;
    --against names something else.

    Usage: fencepost drift [OPTIONS] [ID]

    Arguments:
      [ID]
              A set or an assembly of drift.toml

    Options:
          --by <FACT>
              Make a set of the devices that hold the same value of FACT, for each value

          --where <CONDITION>
              Only devices for which CONDITION holds

          --against <REFERENCE>
              Hold them against REFERENCE: majority, a device, device@2027-02-01, self@2027-02-01 or
              baseline:ID

          --facts <PATTERN,..>
              Compare facts that fit PATTERN alone, with * for any text

          --except <PATTERN,..>
              Compare no facts that fit PATTERN

          --device <DEVICE>
              Tell of DEVICE alone: its differences, since when, and what it held before

          --fact <FACT>
              Tell which devices hold which value of FACT

          --whole <WHOLE>
              Of an assembly: tell of one whole, with all in it

          --since <TIME>
              Tell what drifted and what came back since TIME

          --outliers <FACT>
              Tell whose number of FACT is unusual among its peers, by the median absolute deviation

          --worst <N>
              Of outliers: tell no more than N of a set
              
              [default: 10]

          --all
              Show facts that are the same on all too

          --accepted
              Tell the accepted differences one by one

          --fail-on <WHAT>
              Exit with 1 where a device differs that did not at the assessment before the latest

              Possible values:
              - new: A difference that is new

          --at <TIME>
              Tell it as of TIME; a day is its last moment

          --as-of <TIME>
              Tell it as of TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost drift
      fencepost drift ticket-servers
      fencepost drift ticket-servers --device tern-tickets
      fencepost drift ship --whole Tern
      fencepost drift --by role --against tern-tickets
      fencepost drift --where 'role = "kiosk"' --against self@2027-03-01
      fencepost drift ticket-servers --fact queue.workers
      fencepost drift --since 2027-03-01 --fail-on new
      fencepost drift --outliers disk.free_bytes --by role
    "#);
    insta::assert_snapshot!(env.shows(&["contrast", "--help"]), @r#"
    $ fencepost contrast --help
    Find what sets two groups of devices apart

    Each group is a group of the workspace, ids with commas between, or a condition. Every fact is
    tried, and those that are the least likely to differ so by chance come first.

    Usage: fencepost contrast [OPTIONS] <GROUP> [GROUP]

    Arguments:
      <GROUP>
              The first group

      [GROUP]
              The second group

    Options:
          --since <TIME>
              Hold the first group as it was at TIME against itself as it is; a day is its last moment

          --facts <PATTERN,..>
              Try facts that fit PATTERN alone, with * for any text

          --all
              Tell the facts that may well differ by chance too

          --as-of <TIME>
              Tell it as of TIME

          --format <FORMAT>
              How to write the result

              Possible values:
              - table: For people
              - json:  One JSON document
              - jsonl: One JSON object a line
              - csv:   Comma-separated, for spreadsheets
              
              [default: table]

      -h, --help
              Print help (see a summary with '-h')

    Options of every command:
          --workspace <DIR>
              The workspace, instead of the one found from here upwards
              
              [env: FENCEPOST_WORKSPACE=]

          --color <COLOR>
              When to colour

              Possible values:
              - auto:   On a terminal, unless NO_COLOR is set
              - always: Even in a pipe
              - never:  Not at all
              
              [default: auto]

      -q, --quiet
              Say nothing beside the result

          --wait <TIME>
              How long to wait for a ledger that is in use
              
              [default: 30s]

    Examples:
      fencepost contrast slow-scanners other-scanners
      fencepost contrast 'role = "kiosk" and site = "Tern"' 'role = "kiosk" and site != "Tern"'
      fencepost contrast tern-kiosk-1,tern-kiosk-2,tern-kiosk-3 kiosks
      fencepost contrast kiosks --since 2027-03-01     as they were, against as they are
    "#);
}
