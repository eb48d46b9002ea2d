//! The texts of messages: files of `templates/`, in the language of whoever is told where there is one, and a standard text.

use std::fs;
use std::io;
use std::path::PathBuf;

use fencepost_core::limits::WORKSPACE_FILE_BYTES;
use fencepost_core::{TemplateName, is_slug};
use fencepost_formats::{TemplateError, TemplateValues, TextKind, check_template, facts_in_template, fill_in};

use crate::workspace::project::Project;

/// What is sent where nobody wrote anything better, and what `why --as-told` shows of a rule without a response.
const STANDARD: &str = include_str!("standard.txt");

/// A template that was read.
#[derive(Clone, Debug)]
pub(crate) struct Template {
    /// Where it was read from, from the workspace's root; none of the standard text.
    pub path: Option<String>,
    text: String,
    /// The same as HTML, with where that was read from.
    html: Option<(String, String)>,
}

/// A message with its values filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FilledMessage {
    /// Its subject.
    pub subject: String,
    /// Its text.
    pub text: String,
    /// The same as HTML, where there is that too.
    pub html: Option<String>,
}

/// Why a message could not be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct TemplateFailure {
    /// The file.
    pub path: String,
    /// What is wrong in it.
    pub error: TemplateError,
}

impl TemplateFailure {
    /// Returns what is wrong and where, in words.
    pub fn in_words(&self) -> String {
        format!("{}: {}", self.path, self.error.message)
    }
}

impl Template {
    /// Returns the text that is sent where nobody wrote a better one.
    pub(crate) fn standard() -> Self {
        Self { path: None, text: STANDARD.to_owned(), html: None }
    }

    /// Reads a template, in a language where there is a file for that.
    pub(crate) fn read(
        project: &Project,
        name: &TemplateName,
        language: Option<&str>,
    ) -> Result<Self, TemplateFailure> {
        let folders = language.filter(|language| is_language(language)).map(|language| format!("templates/{language}"));
        for folder in folders.into_iter().chain(["templates".to_owned()]) {
            let path = format!("{folder}/{}.txt", name.name);
            let Some(text) = read_text(project, &path)? else { continue };
            let html_path = format!("{folder}/{}.html", name.name);
            let html = read_text(project, &html_path)?.map(|html| (html_path, html));
            return Ok(Self { path: Some(path), text, html });
        }
        if name.is_named {
            let error = TemplateError { message: "there is no such file".to_owned(), range: None };
            return Err(TemplateFailure { path: format!("templates/{}.txt", name.name), error });
        }
        Ok(Self::standard())
    }

    /// Returns the facts of a device that it uses, by path.
    pub(crate) fn facts(&self) -> Vec<String> {
        let html = self.html.iter().flat_map(|(_, html)| facts_in_template(html));
        facts_in_template(&self.text).into_iter().chain(html).collect()
    }

    fn failure(&self, path: Option<&str>, error: TemplateError) -> TemplateFailure {
        let path = path.or(self.path.as_deref()).unwrap_or("the standard text").to_owned();
        TemplateFailure { path, error }
    }

    /// Checks syntax and names.
    pub(crate) fn check(&self) -> Result<(), TemplateFailure> {
        check_template(&self.text, TextKind::Message).map_err(|error| self.failure(None, error))?;
        match &self.html {
            Some((path, html)) => {
                check_template(html, TextKind::HtmlMessage).map_err(|error| self.failure(Some(path), error))
            }
            None => Ok(()),
        }
    }

    /// Fills it in. What stands in the first line after `Subject:` is the subject.
    pub(crate) fn fill_in(&self, values: &TemplateValues) -> Result<FilledMessage, TemplateFailure> {
        self.check()?;
        let filled = fill_in(&self.text, TextKind::Message, values).map_err(|error| self.failure(None, error))?;
        let (first, rest) = filled.split_once('\n').unwrap_or((&filled, ""));
        let Some(subject) = first.strip_prefix("Subject:").map(str::trim).filter(|subject| !subject.is_empty()) else {
            let message = "its first line is no subject; write Subject: and what it is about".to_owned();
            return Err(self.failure(None, TemplateError { message, range: Some(0..first.len()) }));
        };
        let html = self.html.as_ref().map(|(path, html)| {
            fill_in(html, TextKind::HtmlMessage, values).map_err(|error| self.failure(Some(path), error))
        });
        Ok(FilledMessage {
            subject: subject.to_owned(),
            text: rest.trim_start_matches(['\r', '\n']).to_owned(),
            html: html.transpose()?,
        })
    }
}

/// Whether a text may name a language, and so a folder: `nb`, `pt-br`.
fn is_language(text: &str) -> bool {
    text.len() <= 20 && is_slug(&text.to_ascii_lowercase())
}

/// Reads a file of the workspace; none where there is none.
fn read_text(project: &Project, path: &str) -> Result<Option<String>, TemplateFailure> {
    let full: PathBuf = project.root.join(path);
    let failure =
        |message: String| TemplateFailure { path: path.to_owned(), error: TemplateError { message, range: None } };
    match fs::metadata(&full) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(failure(error.to_string())),
        Ok(meta) if !meta.is_file() => return Err(failure("it is no regular file".to_owned())),
        Ok(meta) if meta.len() > WORKSPACE_FILE_BYTES => return Err(failure("it is too large".to_owned())),
        Ok(_) => {}
    }
    fs::read_to_string(&full).map(Some).map_err(|error| failure(error.to_string()))
}
