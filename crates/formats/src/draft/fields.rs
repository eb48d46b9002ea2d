//! How the columns of a sample are mapped to facts, and what the dictionary would say of these.

use std::collections::BTreeSet;

use fencepost_core::FactType;

use super::DraftFor;
use super::columns::{HolderColumn, SampledColumn, fact_for, holder_column};
use super::looks::{Looks, NumberForm, Times};
use super::text::{in_comment, list, quoted};
use super::words::{PROGRAM, tokens};
use crate::workspace::NumberMarks;

/// A line of `[source.fields]`.
pub(super) struct FieldLine {
    /// The column, in quotes.
    pub column: String,
    pub value: String,
    pub remark: String,
    /// What could not be told; the line is a question then.
    pub question: Option<String>,
}

/// A line of the dictionary.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FactLine {
    /// The fact's path.
    pub path: String,
    /// Its table, as TOML writes it.
    pub entry: String,
}

/// What all fields of a source have in common.
pub(super) struct Common<'c> {
    pub of_people: bool,
    pub records: usize,
    /// How most numbers are written.
    pub marks: NumberMarks,
    /// The pattern by which the source reads moments.
    pub time_format: Option<&'static str>,
    /// The columns that belong to the items of a list of programs.
    pub of_item: &'c [String],
    pub key: Option<&'c str>,
}

/// The lines of fields, and those of the dictionary that go with them.
#[derive(Default)]
pub(super) struct Lines {
    pub fields: Vec<FieldLine>,
    pub facts: Vec<FactLine>,
}

/// Drafts how columns are mapped.
pub(super) fn lines_of(columns: &[&SampledColumn], common: &Common<'_>, context: &DraftFor<'_>) -> Lines {
    let (mut lines, mut used) = (Lines::default(), BTreeSet::new());
    for column in columns {
        let holder = if common.of_people { None } else { holder_column(column, context) };
        let mut fact = match (&holder, context.holder) {
            _ if common.of_people => person_fact(column),
            (Some(_), Some(holder)) => holder.to_owned(),
            (Some(_), None) => "person".to_owned(),
            (None, _) if common.is_of_item(column) => common.item_fact(column),
            (None, _) => fact_for(column, context.dictionary).0,
        };
        // Two columns cannot be one fact; the second keeps a name of its own.
        if !used.insert(fact.clone()) {
            let name = tokens(&column.name).join("_");
            fact = name.clone();
            let mut number = 2;
            while !used.insert(fact.clone()) {
                fact = format!("{name}_{number}");
                number += 1;
            }
        }
        let declared = context.dictionary.facts.get(&fact.replace("[]", ""));
        let ty = declared.and_then(|declared| declared.ty);
        let draft = FieldDraft { column, fact: &fact, ty, holder: holder.as_ref(), common };
        let field = draft.line();
        let is_sure = field.as_ref().is_none_or(|field| field.question.is_none());
        if !common.of_people && ty.is_none() && is_sure {
            lines.facts.extend(draft.fact_line());
        }
        lines.fields.extend(field);
    }
    lines
}

impl Common<'_> {
    fn is_of_item(&self, column: &SampledColumn) -> bool {
        self.key == Some(column.name.as_str()) || self.of_item.contains(&column.name)
    }

    /// The field of a program that a column is.
    fn item_fact(&self, column: &SampledColumn) -> String {
        if self.key == Some(column.name.as_str()) {
            return "software[].name".to_owned();
        }
        let words = tokens(&column.name).into_iter().filter(|word| !PROGRAM.contains(&word.as_str()));
        let words: Vec<String> = words.map(|word| if word == "ver" { "version".to_owned() } else { word }).collect();
        format!("software[].{}", if words.is_empty() { "of".to_owned() } else { words.join("_") })
    }
}

/// A column on its way into a draft.
struct FieldDraft<'f> {
    column: &'f SampledColumn,
    fact: &'f str,
    /// The type that is declared already.
    ty: Option<FactType>,
    holder: Option<&'f HolderColumn>,
    common: &'f Common<'f>,
}

impl FieldDraft<'_> {
    /// Returns how the column is mapped; none when its name and its values are a fact already.
    fn line(&self) -> Option<FieldLine> {
        let Self { column, fact, common, .. } = *self;
        let mut options = Vec::new();
        let mut remark = if column.secret {
            "its name says that it is a secret: kept as a digest alone".to_owned()
        } else {
            samples(column)
        };
        let mut add_remark = |text: String| {
            let sep = if remark.is_empty() { "" } else { "; " };
            remark.push_str(sep);
            remark.push_str(&text);
        };
        if column.filled < common.records {
            add_remark(format!("empty in {} of {}", common.records - column.filled, common.records));
        }
        let mut question = if column.secret { None } else { self.holder_doubt(&mut add_remark) };
        if !column.secret && question.is_none() {
            question = self.options(&mut options, &mut add_remark);
        }
        if question.is_none() && self.contradicts_type() {
            let ty = self.ty.map_or("", FactType::as_str);
            question = Some(format!("{fact} is declared a {ty}, and this looks otherwise"));
        }
        if options.is_empty() && question.is_none() && column.name == fact {
            return None;
        }
        let value = if options.is_empty() {
            quoted(fact)
        } else {
            format!("{{ fact = {}, {} }}", quoted(fact), options.join(", "))
        };
        Some(FieldLine { column: quoted(&column.name), value, remark, question })
    }

    /// Says what is known of the people whom the column names, or what is doubtful about them.
    fn holder_doubt(&self, add_remark: &mut impl FnMut(String)) -> Option<String> {
        let filled = self.column.filled;
        match self.holder? {
            HolderColumn::People { list, known } => {
                add_remark(format!("{known} of {filled} are people of {}", in_comment(list)));
                None
            }
            HolderColumn::Mails { list, known } => Some(format!(
                "{known} of {filled} are mail addresses of people in {}, which goes by other ids",
                in_comment(list)
            )),
            HolderColumn::ByName { lists: true } => {
                Some("does it name who uses the device? No list of people has these ids".to_owned())
            }
            HolderColumn::ByName { lists: false } => None,
        }
    }

    /// Adds how the cells are to be read; returns what could not be told.
    fn options(&self, options: &mut Vec<String>, add_remark: &mut impl FnMut(String)) -> Option<String> {
        let Self { column, common, .. } = *self;
        let seen = &column.seen;
        let mut question = None;
        match &seen.looks {
            // A fact that is declared a text keeps its words.
            Looks::Words { yes, no } if self.ty.is_none_or(|ty| ty == FactType::Boolean) => {
                if !yes.is_empty() {
                    options.push(format!("true_when = {}", list(yes)));
                }
                if !no.is_empty() {
                    options.push(format!("false_when = {}", list(no)));
                }
                if yes.is_empty() || no.is_empty() {
                    add_remark("only one of the two words was seen".to_owned());
                }
            }
            Looks::Number(form) => {
                if let Some(unit) = column.unit {
                    options.push(format!("unit = {}", quoted(unit)));
                }
                question = add_marks(form, common, options);
            }
            Looks::Measure(_, form) => question = add_marks(form, common, options),
            Looks::Times(Times::Pattern(pattern, second)) => {
                if common.time_format != Some(pattern) || second.is_some() {
                    options.push(format!("time_format = {}", quoted(pattern)));
                }
                if let Some(second) = second {
                    question = Some(format!("day from month, or {}", quoted(second)));
                }
            }
            _ => {}
        }
        if !seen.missing.is_empty() && seen.looks != Looks::Text {
            let words: Vec<String> = seen.missing.keys().cloned().collect();
            options.push(format!("missing_when = {}", list(&words)));
            let count: usize = seen.missing.values().sum();
            add_remark(format!("{count} of {} say that it was not collected", column.filled));
        }
        if !seen.odd.is_empty() {
            let odd: Vec<String> = seen.odd.keys().take(3).map(|text| in_comment(text)).collect();
            let count: usize = seen.odd.values().sum();
            add_remark(format!("could not tell what means: {}, in {count} of {}", odd.join(", "), column.filled));
        }
        question
    }

    /// Whether the values cannot be of the type that is declared.
    fn contradicts_type(&self) -> bool {
        let looks = &self.column.seen.looks;
        match self.ty {
            Some(FactType::Number) => !matches!(looks, Looks::Number(_) | Looks::Measure(..)),
            Some(FactType::Boolean) => !matches!(looks, Looks::Boolean | Looks::Words { .. }),
            Some(FactType::Instant | FactType::Date) => !matches!(looks, Looks::Times(_) | Looks::Date),
            Some(FactType::List) => !matches!(looks, Looks::List { .. } | Looks::Text),
            Some(FactType::Version) => matches!(looks, Looks::Boolean | Looks::Words { .. } | Looks::Address),
            Some(FactType::Text | FactType::Duration | FactType::Object) | None => false,
        }
    }

    /// Returns what the dictionary would say of the fact; none where what comes is what it is.
    fn fact_line(&self) -> Option<FactLine> {
        let column = self.column;
        let of = |ty: FactType| format!("type = {}", quoted(ty.as_str()));
        // Sizes are kept in bytes, other measures as they come.
        let unit = |unit: &str| format!("unit = {}", quoted(if unit.ends_with('B') { "B" } else { unit }));
        let mut said = match &column.seen.looks {
            _ if column.secret => vec!["secret = true".to_owned()],
            Looks::Version => vec![of(FactType::Version)],
            Looks::Times(times) if !times.has_time_of_day() => vec![of(FactType::Date)],
            Looks::Times(_) => vec![of(FactType::Instant)],
            Looks::Date => vec![of(FactType::Date)],
            Looks::Number(form) if form.texts || column.unit.is_some() => vec![of(FactType::Number)],
            Looks::Measure(base, _) => vec![of(FactType::Number), unit(base)],
            Looks::List { key: Some(key) } => vec![of(FactType::List), format!("key = {}", quoted(key))],
            Looks::Words { .. } => vec![of(FactType::Boolean)],
            Looks::Boolean | Looks::Number(_) | Looks::List { key: None } => Vec::new(),
            Looks::TimeOfDay | Looks::Address | Looks::Text => Vec::new(),
        };
        if let (Looks::Number(_), Some(of), false) = (&column.seen.looks, column.unit, column.secret) {
            said.push(unit(of));
        }
        let entry = format!("{{ {} }}", said.join(", "));
        (!said.is_empty()).then(|| FactLine { path: self.fact.to_owned(), entry })
    }
}

/// Adds how numbers are written, where that is not how the source writes them; returns what could not be told.
fn add_marks(form: &NumberForm, common: &Common<'_>, options: &mut Vec<String>) -> Option<String> {
    let mark = |key: &str, mark: Option<char>| mark.map(|mark| format!("{key} = {}", quoted(&mark.to_string())));
    if form.marks != NumberMarks::default() && form.marks.over(common.marks) != common.marks {
        options.extend(mark("decimal", form.marks.decimal));
        options.extend(mark("thousands", form.marks.thousands));
    }
    form.or.map(|or| {
        let other: Vec<String> =
            mark("decimal", or.decimal).into_iter().chain(mark("thousands", or.thousands)).collect();
        let other = if other.is_empty() { "neither".to_owned() } else { other.join(", ") };
        format!("the mark stands before three digits: thousandths or thousands ({other})")
    })
}

/// Returns how most numbers of a table are written that are not written plainly; as they come, where columns differ.
pub(super) fn common_marks(columns: &[SampledColumn]) -> NumberMarks {
    let forms: Vec<&NumberForm> = columns
        .iter()
        .filter_map(|column| match &column.seen.looks {
            Looks::Number(form) | Looks::Measure(_, form) if form.or.is_none() && !column.secret => Some(form),
            _ => None,
        })
        .collect();
    let mut marks = NumberMarks::default();
    for form in &forms {
        marks = marks.over(form.marks);
    }
    let has_point = columns.iter().any(|column| {
        matches!(&column.seen.looks, Looks::Number(form) | Looks::Measure(_, form) if form.marks.decimal.is_none())
            && column.values.keys().any(|text| text.contains('.'))
    });
    let fits = |form: &&NumberForm| form.marks == NumberMarks::default() || form.marks.over(marks) == marks;
    let is_common = !has_point && forms.iter().all(fits) && marks.decimal != marks.thousands;
    if is_common { marks } else { NumberMarks::default() }
}

/// What a column of a list of people is probably about.
fn person_fact(column: &SampledColumn) -> String {
    const FACTS: [(&str, &str); 20] = [
        ("mail", "mail"),
        ("email", "mail"),
        ("name", "name"),
        ("nom", "name"),
        ("nombre", "name"),
        ("nome", "name"),
        ("naam", "name"),
        ("unit", "unit"),
        ("department", "unit"),
        ("abteilung", "unit"),
        ("team", "team"),
        ("lead", "lead"),
        ("manager", "lead"),
        ("supervisor", "lead"),
        ("vorgesetzter", "lead"),
        ("language", "language"),
        ("sprache", "language"),
        ("langue", "language"),
        ("locale", "language"),
        ("active", "active"),
    ];
    let words = tokens(&column.name);
    let known = FACTS.iter().find(|(word, _)| words.iter().any(|token| token == word));
    known.map_or_else(|| words.join("_"), |(_, fact)| (*fact).to_owned())
}

fn samples(column: &SampledColumn) -> String {
    let mut shown: Vec<String> = Vec::new();
    let is_one = |text: &&String| !column.seen.missing.contains_key(*text) && !column.seen.odd.contains_key(*text);
    for text in column.shown.iter().filter(is_one).map(|text| in_comment(text)) {
        let length: usize = shown.iter().map(String::len).sum();
        if shown.is_empty() || length + text.len() < 44 {
            shown.push(text);
        }
    }
    let others_distinct = column.seen.missing.len() + column.seen.odd.len();
    let distinct = column.distinct() - others_distinct.min(column.distinct());
    if distinct > shown.len() && !column.shown.is_empty() {
        shown.push(format!(".. ({distinct} different)"));
    }
    let others: usize = column.seen.missing.values().chain(column.seen.odd.values()).sum();
    match column.seen.looks.noun().filter(|_| !column.shown.is_empty()) {
        Some(noun) if others == 0 => format!("all {noun}: {}", shown.join(", ")),
        Some(noun) => format!("{} of {} {noun}: {}", column.filled - others, column.filled, shown.join(", ")),
        None => shown.join(", "),
    }
}
