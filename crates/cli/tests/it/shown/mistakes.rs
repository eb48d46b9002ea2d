//! Each kind of mistake, as it is told.

use crate::env::Env;

const FACTS: &str = r#"[facts]
"v" = { type = "version" }
"when" = { type = "instant" }
"many" = { type = "list" }
"word" = { type = "text" }
"number" = { type = "number" }
"#;

#[test]
fn mistakes_in_conditions() {
    let env = Env::new();
    env.write("facts.toml", FACTS);
    insta::assert_snapshot!(env.shows(&["try", "1 +", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '1 +' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where a value was expected
     --> expression:1:4
      |
    1 | 1 +
      |    ^
      |
      = help: write a value here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "\"open", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '"open' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: this text has no closing quote
     --> expression:1:1
      |
    1 | "open
      | ^^^^^
      |
      = help: end it with `"`

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "`", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '`' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: this text has no closing quote
     --> expression:1:1
      |
    1 | `
      | ^
      |
      = help: end it with `"`

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "a b", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'a b' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: expected the end of the condition or an operator, found `b`
     --> expression:1:3
      |
    1 | a b
      |   ^
      |
      = help: write the end of the condition or an operator here, or take `b` away

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "(1", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '(1' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where `)` was expected
     --> expression:1:3
      |
    1 | (1
      |   ^
      |
      = help: write `)` here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "[1, 2", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '[1, 2' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where `]` or a comma was expected
     --> expression:1:6
      |
    1 | [1, 2
      |      ^
      |
      = help: write `]` or a comma here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "{a 1}", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '{a 1}' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: contexts in braces are not part of this language
     --> expression:1:1
      |
    1 | {a 1}
      | ^
      |
      = help: name the facts directly, or write a list in [ ]

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "if a then 1", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'if a then 1' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where the word `else` was expected
     --> expression:1:12
      |
    1 | if a then 1
      |            ^
      |
      = help: write the word `else` here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "every x software satisfies x", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'every x software satisfies x' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: expected the word `in`, found `software`
     --> expression:1:9
      |
    1 | every x software satisfies x
      |         ^^^^^^^^
      |
      = help: write the word `in` here, or take `software` away

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "some x in software", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'some x in software' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where the word `satisfies` was expected
     --> expression:1:19
      |
    1 | some x in software
      |                   ^
      |
      = help: write the word `satisfies` here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "1 = \"x\"", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '1 = "x"' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a number and a text are never equal
     --> expression:1:1
      |
    1 | 1 = "x"
      | ^^^^^^^
      |
      = help: take the quotes away from a number, or write number(..)

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "true and 1", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'true and 1' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[not-a-condition]: `and` needs a condition, and this is a number
     --> expression:1:10
      |
    1 | true and 1
      |          ^ must be true or false
      |
      = help: compare it with something

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "not(1)", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'not(1)' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[not-a-condition]: `not` needs a condition, and this is a number
     --> expression:1:5
      |
    1 | not(1)
      |     ^ must be true or false
      |
      = help: compare it with something

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "a < true", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'a < true' --as-of 2027-03-14T06:00:00Z
    not collected  (unknown: not collected)
      observed  a is not collected
      required  < true
      from      no source reports a
    ------- standard error -------
    warning[unknown-fact]: unknown fact `a`
     --> expression:1:1
      |
    1 | a < true
      | ^ no device reports a fact of this name
      |
      = help: did you mean `v`?
    "#);
    insta::assert_snapshot!(env.shows(&["try", "date(\"2027-02-30\") < today()", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'date("2027-02-30") < today()' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[bad-literal]: `2027-02-30` is no date
     --> expression:1:6
      |
    1 | date("2027-02-30") < today()
      |      ^^^^^^^^^^^^
      |
      = help: write date("2027-03-04")

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "duration(\"P1X\")", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'duration("P1X")' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[bad-literal]: `P1X` is no duration
     --> expression:1:10
      |
    1 | duration("P1X")
      |          ^^^^^
      |
      = help: write duration("P14D") or duration("14 days")

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "version(1)", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'version(1)' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-type]: `version` takes a text here, and this is a number
     --> expression:1:9
      |
    1 | version(1)
      |         ^
      |
      = help: write version("12.0.1")

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "version(\"\") < v", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'version("") < v' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[bad-literal]: `` is no version
     --> expression:1:9
      |
    1 | version("") < v
      |         ^^
      |
      = help: write version("12.0.1")

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "nothing(1)", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'nothing(1)' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[unknown-function]: unknown function `nothing`
     --> expression:1:1
      |
    1 | nothing(1)
      | ^^^^^^^
      |
      = help: did you mean `string`?

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "starts with(\"x\")", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'starts with("x")' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-arguments]: `starts with` takes 2 arguments, not 1
     --> expression:1:1
      |
    1 | starts with("x")
      | ^^^^^^^^^^^^^^^^
      |
      = help: write starts with(text, "start")

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "count(1, 2)", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'count(1, 2)' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-arguments]: `count` takes one argument, not 2
     --> expression:1:1
      |
    1 | count(1, 2)
      | ^^^^^^^^^^^
      |
      = help: write count(list)

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "matches(a, \"(\")", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'matches(a, "(")' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    warning[unknown-fact]: unknown fact `a`
     --> expression:1:9
      |
    1 | matches(a, "(")
      |         ^ no device reports a fact of this name
      |
      = help: did you mean `v`?

    error[bad-pattern]: this pattern cannot be used: unclosed group
     --> expression:1:12
      |
    1 | matches(a, "(")
      |            ^^^
      |
      = help: patterns are XPath regular expressions without back-references, as in "^tern-[0-9]+$"

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "today() - \"x\"", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'today() - "x"' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-type]: cannot compute with a date and a text
     --> expression:1:1
      |
    1 | today() - "x"
      | ^^^^^^^^^^^^^
      |
      = help: numbers go with numbers, dates and durations with durations

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "\"a\" + 1", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '"a" + 1' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-type]: cannot compute with a text and a number
     --> expression:1:1
      |
    1 | "a" + 1
      | ^^^^^^^
      |
      = help: numbers go with numbers, dates and durations with durations

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "x in [3..1]", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'x in [3..1]' --as-of 2027-03-14T06:00:00Z
    not collected  (unknown: not collected)
      observed  x is not collected
      required  in [3..1]
      from      no source reports x
    ------- standard error -------
    warning[unknown-fact]: unknown fact `x`
     --> expression:1:1
      |
    1 | x in [3..1]
      | ^ no device reports a fact of this name
      |
      = help: did you mean `v`?
    "#);
    insta::assert_snapshot!(env.shows(&["try", "a between 1", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'a between 1' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where the word `and` was expected
     --> expression:1:12
      |
    1 | a between 1
      |            ^
      |
      = help: write the word `and` here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "a between 2 and 1", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'a between 2 and 1' --as-of 2027-03-14T06:00:00Z
    not collected  (unknown: not collected)
      observed  a is not collected
      required  between 2 and 1
      from      no source reports a
    ------- standard error -------
    warning[unknown-fact]: unknown fact `a`
     --> expression:1:1
      |
    1 | a between 2 and 1
      | ^ no device reports a fact of this name
      |
      = help: did you mean `v`?
    "#);
    insta::assert_snapshot!(env.shows(&["try", "software.", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try software. --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where a field name after `.` was expected
     --> expression:1:10
      |
    1 | software.
      |          ^
      |
      = help: write a field name after `.` here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "{a: 1, a: 2}", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '{a: 1, a: 2}' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: contexts in braces are not part of this language
     --> expression:1:1
      |
    1 | {a: 1, a: 2}
      | ^
      |
      = help: name the facts directly, or write a list in [ ]

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "-\"x\"", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '-"x"' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error: unexpected argument '-"' found

      tip: to pass '-"' as a value, use '-- -"'

    Usage: fencepost try [OPTIONS] [EXPRESSION]

    For more information, try '--help'.
    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "age(\"x\")", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'age("x")' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-type]: `age` takes a moment, and this is a text
     --> expression:1:5
      |
    1 | age("x")
      |     ^^^
      |
      = help: declare the fact as { type = "instant" } in facts.toml

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "now() < 5", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'now() < 5' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a date and time cannot be compared with a number
     --> expression:1:1
      |
    1 | now() < 5
      | ^^^^^^^^^
      |
      = help: compare things of one type

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "@\"nonsense\"", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '@"nonsense"' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[bad-literal]: `nonsense` is no date, time or duration
     --> expression:1:1
      |
    1 | @"nonsense"
      | ^^^^^^^^^^^
      |
      = help: write @"2027-03-04", @"2027-03-04T10:00:00Z" or @"P3D"

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "for x in 3 return x", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'for x in 3 return x' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[not-a-list]: this is a number, not a list
     --> expression:1:10
      |
    1 | for x in 3 return x
      |          ^ a list was expected
      |
      = help: name a fact that is a list, or write one in [ ]

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "if 1 then 2 else 3", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'if 1 then 2 else 3' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[not-a-condition]: `if` needs a condition, and this is a number
     --> expression:1:4
      |
    1 | if 1 then 2 else 3
      |    ^ must be true or false
      |
      = help: compare it with something

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "a instance of thing", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'a instance of thing' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    warning[unknown-fact]: unknown fact `a`
     --> expression:1:1
      |
    1 | a instance of thing
      | ^ no device reports a fact of this name
      |
      = help: did you mean `v`?

    error[unknown-type]: unknown type `thing`
     --> expression:1:15
      |
    1 | a instance of thing
      |               ^^^^^
      |
      = help: did you mean `string`?

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "substring(\"abc\")", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'substring("abc")' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-arguments]: `substring` takes 2 to 3 arguments, not 1
     --> expression:1:1
      |
    1 | substring("abc")
      | ^^^^^^^^^^^^^^^^
      |
      = help: write substring(text, start, length)

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "1..2", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 1..2 --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: expected the end of the condition or an operator, found `..`
     --> expression:1:2
      |
    1 | 1..2
      |  ^^
      |
      = help: write the end of the condition or an operator here, or take `..` away

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "a = null = b", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'a = null = b' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[chained]: comparisons cannot be chained
     --> expression:1:10
      |
    1 | a = null = b
      |          ^
      |
      = help: join two comparisons with `and`, or write `x between 1 and 5`

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "\"x\" in [1..3]", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try '"x" in [1..3]' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a text cannot be compared with a number
     --> expression:1:8
      |
    1 | "x" in [1..3]
      |        ^^^^^^
      |
      = help: take the quotes away from a number, or write number(..)

    error[never-equal]: a text cannot be compared with a number
     --> expression:1:8
      |
    1 | "x" in [1..3]
      |        ^^^^^^
      |
      = help: take the quotes away from a number, or write number(..)

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "string length(4)", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'string length(4)' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[wrong-type]: `string length` takes a text here, and this is a number
     --> expression:1:15
      |
    1 | string length(4)
      |               ^
      |
      = help: write string length(text)

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "member of(\"nobody\")", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'member of("nobody")' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: expected the end of the condition or an operator, found the word `of`
     --> expression:1:8
      |
    1 | member of("nobody")
      |        ^^
      |
      = help: a fact of this name is written `of` in back-quotes

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "number = \"3\"", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'number = "3"' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a number and a text are never equal
     --> expression:1:1
      |
    1 | number = "3"
      | ^^^^^^^^^^^^
      |
      = help: take the quotes away from a number, or write number(..)

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "v < 3", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'v < 3' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a version cannot be compared with a number
     --> expression:1:1
      |
    1 | v < 3
      | ^^^^^
      |
      = help: write a version in quotes, as in "12.0"

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "when < date(\"2027-01-01\")", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'when < date("2027-01-01")' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a date and time cannot be compared with a date
     --> expression:1:1
      |
    1 | when < date("2027-01-01")
      | ^^^^^^^^^^^^^^^^^^^^^^^^^
      |
      = help: compare a day with today(), or say which moment of it: date and time("2027-03-04T00:00:00Z")

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "many = 3", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'many = 3' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a list and a number are never equal
     --> expression:1:1
      |
    1 | many = 3
      | ^^^^^^^^
      |
      = help: use `in`, `every`, `some` or count(..) with lists

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "numbr > 1", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'numbr > 1' --as-of 2027-03-14T06:00:00Z
    not collected  (unknown: not collected)
      observed  numbr is not collected
      required  > 1
      from      no source reports numbr
    ------- standard error -------
    warning[unknown-fact]: unknown fact `numbr`
     --> expression:1:1
      |
    1 | numbr > 1
      | ^^^^^ no device reports a fact of this name
      |
      = help: did you mean `number`?
    "#);
    insta::assert_snapshot!(env.shows(&["try", "when > \"2027\"", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'when > "2027"' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[never-equal]: a date and time cannot be compared with a text
     --> expression:1:1
      |
    1 | when > "2027"
      | ^^^^^^^^^^^^^
      |
      = help: write a date as date("2027-03-04") or @"2027-03-04"

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "number in [1..3", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'number in [1..3' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: the condition ends where `]` or `)` at the end of the range was expected
     --> expression:1:16
      |
    1 | number in [1..3
      |                ^
      |
      = help: write `]` or `)` at the end of the range here, or take away what asks for it

    [exit 2]
    "#);
    insta::assert_snapshot!(env.shows(&["try", "not number > 3", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost try 'not number > 3' --as-of 2027-03-14T06:00:00Z
    ------- standard error -------
    error[syntax]: `not` is a function
     --> expression:1:1
      |
    1 | not number > 3
      | ^^^
      |
      = help: put what it denies in brackets: `not(x)`

    [exit 2]
    "#);
}

#[test]
fn mistakes_in_workspace_files() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        "clock = \"wound\"\ntime_zone = \"Mars/Base\"\nnonsense = 1\n[silence]\ngrace = \"soon\"\n",
    );
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[bad-word]: `clock` cannot be `wound`
     --> fencepost.toml:1:9
      |
    1 | clock = "wound"
      |         ^^^^^^^
      |
      = help: write one of wall, stepped

    error[bad-zone]: unknown time zone `Mars/Base`
     --> fencepost.toml:2:13
      |
    2 | time_zone = "Mars/Base"
      |             ^^^^^^^^^^^
      |
      = help: write the name of an IANA zone, such as "Europe/Oslo" or "UTC"

    error[unknown-key]: unknown key `nonsense` in fencepost.toml
     --> fencepost.toml:3:1
      |
    3 | nonsense = 1
      | ^^^^^^^^
      |
      = help: fencepost.toml has name, time_zone, clock, holder, fence_by, company_device, uncovered, relapse, working_days, holidays, holidays_file, access, assess, silence, history, report, source, channel, recipient, responses

    error[bad-period]: `grace` is not a length of time
     --> fencepost.toml:5:9
      |
    5 | grace = "soon"
      |         ^^^^^^
      |
      = help: `soon` is not a length of time; write a number and w, d, h, min, s or working days, such as "3d", "36h" or "2 working days"

    4 errors in 1 file; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("fencepost.toml", "clock = \"stepped\"\n[[source]]\nid = \"a\"\nformat = \"scroll\"\ndelimiter = \"::\"\n[[source]]\nid = \"a\"\nfiles = [\"x\"]\nfresh_for = 3\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[bad-word]: `format` cannot be `scroll`
     --> fencepost.toml:4:10
      |
    4 | format = "scroll"
      |          ^^^^^^^^
      |
      = help: write one of jsonl, json, csv, plist, ini, key-value, scim, xlsx, cyclonedx, spdx

    error[bad-delimiter]: `delimiter` is one mark
     --> fencepost.toml:5:13
      |
    5 | delimiter = "::"
      |             ^^^^
      |
      = help: write ",", ";" or "\t", or leave it out: it is found by itself

    error[idle-key]: `delimiter` has no meaning here
     --> fencepost.toml:5:13
      |
    5 | delimiter = "::"
      |             ^^^^
      |
      = help: only format = "csv" has a delimiter

    error[doubled-id]: two sources are called `a`
     --> fencepost.toml:7:6
      |
    7 | id = "a"
      |      ^^^
      |
      = help: give one of them another id

    error[bad-period]: `fresh_for` is not a length of time
     --> fencepost.toml:9:13
      |
    9 | fresh_for = 3
      |             ^
      |
      = help: `3` has no unit; write "3d" for days or "3h" for hours

    5 errors in 1 file; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("fencepost.toml", "clock = \n[silence\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[toml]: unclosed table, expected `]`
     --> fencepost.toml:2:9
      |
    2 | [silence
      |         ^
      |
      = help: this file is TOML: key = value, texts in quotes, tables in [ ]

    error[toml]: string values must be quoted, expected literal string
     --> fencepost.toml:1:9
      |
    1 | clock = 
      |         ^
      |
      = help: this file is TOML: key = value, texts in quotes, tables in [ ]

    2 errors in 1 file; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("facts.toml", "[facts]\n\"a\" = { type = \"numbr\" }\n\"b\" = { kind = \"text\" }\n\"c\" = 3\n\"d\" = { type = \"number\", unit = \"furlongs\" }\n\"e.f\" = { type = \"list\", key = 3 }\n\"device\" = { type = \"text\" }\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[bad-word]: `type` cannot be `numbr`
     --> facts.toml:2:16
      |
    2 | "a" = { type = "numbr" }
      |                ^^^^^^^
      |
      = help: did you mean `number`?

    error[unknown-key]: unknown key `kind` in a fact
     --> facts.toml:3:9
      |
    3 | "b" = { kind = "text" }
      |         ^^^^
      |
      = help: a fact has type, about, unit, key, ordered, volatile, secret, company_only, fresh_for, ends, labels

    error[wrong-type]: `c` is declared by a table
     --> facts.toml:4:1
      |
    4 | "c" = 3
      | ^^^
      |
      = help: write "c" = { type = "text" }

    error[wrong-type]: `key` is a text, and this is an integer
     --> facts.toml:6:32
      |
    6 | "e.f" = { type = "list", key = 3 }
      |                                ^
      |
      = help: write key = "..."

    4 errors in 2 files; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("groups.toml", "[[group]]\nid = \"shore\"\nwhere = 'role = '\n[[group]]\nid = \"shore\"\nmembers = [\"x\"]\n[[group]]\nid = \"every-device\"\nmembers = [\"x\"]\n[[group]]\nid = \"odd one\"\nwhere = \"1\"\n[[group]]\nid = \"round\"\ngroups = [\"about\"]\n[[group]]\nid = \"about\"\ngroups = [\"round\"]\n[[group]]\nid = \"crew\"\nof = \"people\"\nwhere = 'unit = \"x\"'\n[[group]]\nid = \"mixed\"\ngroups = [\"crew\", \"nowhere\"]\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[syntax]: the condition ends where a value was expected
     --> groups.toml:3:17
      |
    3 | where = 'role = '
      |                 ^
      |
      = help: write a value here, or take away what asks for it

    error[doubled-id]: two groups are called `shore`
     --> groups.toml:5:6
      |
    2 | id = "shore"
      |      ------- the first
    ...
    5 | id = "shore"
      |      ^^^^^^^ the second
      |
      = help: give one of them another id

    error[doubled-id]: two groups are called `every-device`
     --> groups.toml:8:6
      |
    8 | id = "every-device"
      |      ^^^^^^^^^^^^^^ the second
      |
      = help: give one of them another id

    error[bad-id]: `odd one` is not an id
      --> groups.toml:11:6
       |
    11 | id = "odd one"
       |      ^^^^^^^^^
       |
       = help: ids are lower-case words with hyphens, such as disk-encrypted

    error[group-circle]: groups name each other in a circle: round -> about -> round
      --> groups.toml:14:6
       |
    14 | id = "round"
       |      ^^^^^^^
       |
       = help: take one of them out of the other's `groups`, `except` or `where`

    error[wrong-kind]: `crew` is not a group of the same kind
      --> groups.toml:25:11
       |
    25 | groups = ["crew", "nowhere"]
       |           ^^^^^^
       |
       = help: a group of devices reaches people with `held_by`

    error[unknown-group]: unknown group `nowhere`
      --> groups.toml:25:19
       |
    25 | groups = ["crew", "nowhere"]
       |                   ^^^^^^^^^
       |
       = help: define it in groups.toml

    7 errors in 2 files; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("rules/r.toml", "[[rule]]\nid = \"a\"\n[[rule]]\nid = \"a\"\nseverity = \"awful\"\ngroups = [\"nowhere\"]\nrequire = 'x = 1'\ngrace = \"often\"\n[[rule]]\nrequire = 'true'\n[[rule]]\nid = \"b\"\ngroups = [\"every-device\"]\nrequire = '1 + 1'\ncontrols = [\"nothing/1\"]\nwas = [\"b\"]\n[[rule]]\nid = \"silence\"\ngroups = [\"every-device\"]\nrequire = 'true'\n[[rule]]\nid = \"later\"\ngroups = [\"every-device\"]\nrequire = 'true'\nenforced_from = \"whenever\"\nstage = \"trial\"\nfix = \"Mend {a +}.\"\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[scope-for-nobody]: rule `a` covers no device
     --> rules/r.toml:2:6
      |
    2 | id = "a"
      |      ^^^
      |
      = help: say which with `covers` or `groups`; groups = ["every-device"] covers all

    error[no-requirement]: rule `a` asks for nothing
     --> rules/r.toml:2:6
      |
    2 | id = "a"
      |      ^^^
      |
      = help: write the condition that covered devices must meet as `require`

    error[doubled-id]: two rules are called `a`
     --> rules/r.toml:4:6
      |
    2 | id = "a"
      |      --- the first
    3 | [[rule]]
    4 | id = "a"
      |      ^^^ the second
      |
      = help: give one of them another id; findings follow an id, so it must be one rule's alone

    error[bad-word]: `severity` cannot be `awful`
     --> rules/r.toml:5:12
      |
    5 | severity = "awful"
      |            ^^^^^^^
      |
      = help: write one of low, medium, high, critical

    error[unknown-group]: unknown group `nowhere`
     --> rules/r.toml:6:11
      |
    6 | groups = ["nowhere"]
      |           ^^^^^^^^^
      |
      = help: define it in groups.toml

    error[bad-period]: `grace` is not a length of time
     --> rules/r.toml:8:9
      |
    8 | grace = "often"
      |         ^^^^^^^
      |
      = help: `often` is not a length of time; write a number and w, d, h, min, s or working days, such as "3d", "36h" or "2 working days"

    error[no-id]: a [[rule]] has no `id`
     --> rules/r.toml:9:1
      |
    9 | [[rule]]
      | ^^^^^^^^
      |
      = help: give it one: lower-case words with hyphens

    error[not-a-condition]: this is a number, not a condition
      --> rules/r.toml:14:12
       |
    14 | require = '1 + 1'
       |            ^^^^^ must be true or false
       |
       = help: compare it with something, as in `os.version >= "12.0"`

    error[was-in-use]: `b` is a rule's id today, so it is no earlier one
      --> rules/r.toml:16:8
       |
    16 | was = ["b"]
       |        ^^^
       |
       = help: take it out of `was`, or rename the rule that has it

    error[reserved-id]: a rule cannot be called `silence`
      --> rules/r.toml:18:6
       |
    18 | id = "silence"
       |      ^^^^^^^^^
       |
       = help: that is the name of the finding of a silent device

    warning[constant]: this condition is always true
      --> rules/r.toml:20:12
       |
    20 | require = 'true'
       |            ^^^^ no fact decides it
       |
       = help: compare a fact with something, or take the condition away

    warning[constant]: this condition is always true
      --> rules/r.toml:24:12
       |
    24 | require = 'true'
       |            ^^^^ no fact decides it
       |
       = help: compare a fact with something, or take the condition away

    error[bad-moment]: `enforced_from` is no day and no moment
      --> rules/r.toml:25:17
       |
    25 | enforced_from = "whenever"
       |                 ^^^^^^^^^^
       |
       = help: write enforced_from = 2027-04-01

    11 errors, 2 warnings in 2 files; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("baselines/b.toml", "id = \"b\"\nextends = [\"nobody\"]\ngroups = [\"every-device\"]\n[expect]\n\"a\" = { equals = 1, at_least = 2 }\n\"c\" = { nearly = 3 }\n\"d\" = {}\n[software]\nfrom = \"software.name\"\nmust = [{ because = \"x\" }, \"one\", \"one\"]\nnever = [\"one\"]\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[unknown-baseline]: there is no baseline `nobody`
     --> baselines/b.toml:2:12
      |
    2 | extends = ["nobody"]
      |            ^^^^^^^^
      |
      = help: it extends a baseline of this workspace, by its id

    error[incomplete]: `a` is expected to be one thing
     --> baselines/b.toml:5:7
      |
    5 | "a" = { equals = 1, at_least = 2 }
      |       ^^^^^^^^^^^^^^^^^^^^^^^^^^^^
      |
      = help: write one of value = .., test = ">= 30", or drop = true

    error[unknown-key]: unknown key `equals` in an expectation
     --> baselines/b.toml:5:9
      |
    5 | "a" = { equals = 1, at_least = 2 }
      |         ^^^^^^
      |
      = help: an expectation has value, test, drop, topic, severity, stage, enforced_from, grace, because, fix, controls, response

    error[unknown-key]: unknown key `at_least` in an expectation
     --> baselines/b.toml:5:21
      |
    5 | "a" = { equals = 1, at_least = 2 }
      |                     ^^^^^^^^
      |
      = help: an expectation has value, test, drop, topic, severity, stage, enforced_from, grace, because, fix, controls, response

    error[incomplete]: `c` is expected to be one thing
     --> baselines/b.toml:6:7
      |
    6 | "c" = { nearly = 3 }
      |       ^^^^^^^^^^^^^^
      |
      = help: write one of value = .., test = ">= 30", or drop = true

    error[unknown-key]: unknown key `nearly` in an expectation
     --> baselines/b.toml:6:9
      |
    6 | "c" = { nearly = 3 }
      |         ^^^^^^
      |
      = help: an expectation has value, test, drop, topic, severity, stage, enforced_from, grace, because, fix, controls, response

    error[incomplete]: `d` is expected to be one thing
     --> baselines/b.toml:7:7
      |
    7 | "d" = {}
      |       ^^
      |
      = help: write one of value = .., test = ">= 30", or drop = true

    error[incomplete]: an entry of a list has a name
      --> baselines/b.toml:10:9
       |
    10 | must = [{ because = "x" }, "one", "one"]
       |         ^^^^^^^^^^^^^^^^^
       |
       = help: write { name = "..." }

    error[said-twice]: `software.one` is said twice in baseline `b`
      --> baselines/b.toml:10:35
       |
    10 | must = [{ because = "x" }, "one", "one"]
       |                            -----  ^^^^^ the second
       |                            |
       |                            the first
       |
       = help: keep one of them

    error[said-twice]: `software.one` is said twice in baseline `b`
      --> baselines/b.toml:11:10
       |
    10 | must = [{ because = "x" }, "one", "one"]
       |                            ----- the first
    11 | never = ["one"]
       |          ^^^^^ the second
       |
       = help: keep one of them

    10 errors in 2 files; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("access.toml", "[[service]]\nid = \"mail\"\ndefault = \"perhaps\"\n[[service]]\nid = \"wiki\"\ntitle = \"Wiki\"\ndefault = \"permit\"\nusual = [{ client = \"app\" }]\n[[access]]\nid = \"x\"\nservices = [\"post\"]\nneeds = 'standing = \"fine\"'\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[no-usual]: service `mail` has no usual sign-in
     --> access.toml:2:6
      |
    2 | id = "mail"
      |      ^^^^^^
      |
      = help: say how people reach it: usual = [{ client = "app" }, { client = "browser" }]

    error[bad-word]: `default` cannot be `perhaps`
     --> access.toml:3:11
      |
    3 | default = "perhaps"
      |           ^^^^^^^^^
      |
      = help: write one of permit, deny

    error[unknown-service]: unknown service `post`
      --> access.toml:11:13
       |
    11 | services = ["post"]
       |             ^^^^^^
       |
       = help: define it as a [[service]] in access.toml

    warning[unknown-word]: no device ever stands `fine`
      --> access.toml:12:21
       |
    12 | needs = 'standing = "fine"'
       |                     ^^^^^^
       |
       = help: write one of "compliant", "on-notice", "unproven", "non-compliant"

    3 errors, 1 warning in 2 files; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("corrections.toml", "[[correction]]\ndevice = \"x\"\nfact = \"a\"\nvalue = 1\nuntil = \"never\"\nbecause = \"b\"\nby = \"c\"\n[[correction]]\nfact = \"a\"\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[bad-moment]: `until` is no day and no moment
     --> corrections.toml:5:9
      |
    5 | until = "never"
      |         ^^^^^^^
      |
      = help: write until = 2027-04-01

    error[incomplete]: a correction needs device, value, because, by, until
     --> corrections.toml:8:1
      |
    8 | [[correction]]
      | ^^^^^^^^^^^^^^
      |
      = help: it says what, why, who says so, and until when

    2 errors in 2 files; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("devices.toml", "[[device]]\nid = \"a\"\nrenamed_to = \"b\"\nfrom = 2027-01-01\nbecause = \"x\"\n[[device]]\nid = \"b\"\nrenamed_to = \"a\"\nfrom = 2027-01-02\nbecause = \"x\"\n[[device]]\nid = \"c\"\nretired = \"whenever\"\nbecause = \"x\"\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[renaming-circle]: `a` is renamed in a circle
     --> devices.toml:1:1
      |
    1 | [[device]]
      | ^^^^^^^^^^
      |
      = help: the last name in the chain is what it is called now

    error[bad-moment]: `retired` is no day and no moment
      --> devices.toml:13:11
       |
    13 | retired = "whenever"
       |           ^^^^^^^^^^
       |
       = help: write retired = 2027-04-01

    2 errors in 2 files; what fits the devices is told once they are mended
    [exit 1]
    "#);
    let env = Env::new();
    env.write("controls.toml", "[[control]]\nclause = \"a\"\ntitle = \"t\"\n[[control]]\nclause = \"a\"\ntitle = 3\n");
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[doubled-id]: `a` stands here twice
     --> controls.toml:5:10
      |
    2 | clause = "a"
      |          --- the first
    ...
    5 | clause = "a"
      |          ^^^ the second
      |
      = help: keep one of them

    warning[clause-without-rule]: no enforced rule answers for `a`
     --> controls.toml:2:10
      |
    2 | clause = "a"
      |          ^^^ t
      |
      = help: write controls = ["a"] at the rule that does, or here elsewhere = "..." where none can

    1 error, 1 warning in 2 files, with 0 rules; tried on no device, as none was imported, as of Sun 14 Mar 2027 07:00
    [exit 1]
    "#);
    let env = Env::new();
    env.write(
        "examples/e.toml",
        "[[example]]\ntitle = \"x\"\nrule = \"nobody\"\nexpect = \"maybe\"\n[example.facts]\na = 1\n",
    );
    insta::assert_snapshot!(env.shows(&["vet", "--as-of", "2027-03-14T06:00:00Z"]), @r#"
    $ fencepost vet --as-of 2027-03-14T06:00:00Z
    error[bad-word]: `expect` cannot be `maybe`
     --> examples/e.toml:4:10
      |
    4 | expect = "maybe"
      |          ^^^^^^^
      |
      = help: write one of pass, fail, unknown, not-applicable

    1 error in 2 files, with 0 rules; tried on no device, as none was imported, as of Sun 14 Mar 2027 07:00
    [exit 1]
    "#);
}
