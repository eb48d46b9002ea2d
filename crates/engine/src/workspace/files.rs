//! Which files are meant, and which source each belongs to.

use std::fs;
use std::path::{Path, PathBuf};

use fencepost_formats::{Source, SourceKind};

use crate::error::EngineError;
use crate::workspace::project::Project;

/// The source of a file, and how it was told.
#[derive(Clone, Debug)]
pub struct Claim {
    /// The source.
    pub source: Source,
    /// How it was told, in words.
    pub because: String,
}

/// Returns the files that paths mean: themselves, or those in a folder and below that some source claims.
///
/// # Errors
/// When a path cannot be read, or a folder holds no file of a source.
pub fn expand_paths(project: &Project, paths: &[PathBuf]) -> Result<Vec<PathBuf>, EngineError> {
    let mut files = Vec::new();
    for path in paths {
        let failed = |error| EngineError::File { act: "read", path: path.clone(), error };
        if !fs::metadata(path).map_err(failed)?.is_dir() {
            files.push(path.clone());
            continue;
        }
        let mut folders = vec![path.clone()];
        let mut found = Vec::new();
        while let Some(folder) = folders.pop() {
            let failed = |error| EngineError::File { act: "read", path: folder.clone(), error };
            for entry in fs::read_dir(&folder).map_err(failed)? {
                let entry = entry.map_err(failed)?;
                // Symbolic links are not followed: they lead out of what was named.
                let kind = entry.file_type().map_err(failed)?;
                let hidden = entry.file_name().to_string_lossy().starts_with('.');
                if kind.is_dir() && !hidden {
                    folders.push(entry.path());
                } else if kind.is_file()
                    && !hidden
                    && (project.config.sources.is_empty() || is_imported(&claims(project, &entry.path())))
                {
                    found.push(entry.path());
                }
            }
        }
        if found.is_empty() {
            return Err(EngineError::refused(
                format!("no file in {} belongs to a source", path.display()),
                "name the feed's files in `files` of its [[source]] in fencepost.toml, or import one with --source",
            ));
        }
        found.sort();
        files.extend(found);
    }
    Ok(files)
}

/// Whether some source claims a file, and not as a log of sign-ins.
fn is_imported(claims: &[Claim]) -> bool {
    claims.iter().any(|claim| claim.source.kind != SourceKind::SignIns)
}

/// Returns the source of a log of sign-ins: the one of the name, or the one that claims the file as such; none for a log whose
/// lines are sign-ins as they are.
///
/// # Errors
/// When there is no source of the name, or it is about something else.
pub(crate) fn log_source(
    project: &Project,
    path: Option<&Path>,
    named: Option<&str>,
) -> Result<Option<Source>, EngineError> {
    if let Some(named) = named {
        let source = named_source(project, named)?.source;
        if source.kind != SourceKind::SignIns {
            return Err(EngineError::refused(
                format!("source `{named}` is about {}, not about sign-ins", source.kind.about()),
                "name one with about = \"signins\"",
            ));
        }
        return Ok(Some(source));
    }
    let claims = path.map_or_else(Vec::new, |path| claims(project, path));
    Ok(claims.into_iter().map(|claim| claim.source).find(|source| source.kind == SourceKind::SignIns))
}

/// The sources whose `files` a path fits, each with the pattern: by its way from the workspace, as given, or by its name.
fn claims(project: &Project, path: &Path) -> Vec<Claim> {
    let absolute = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let root = project.root.canonicalize().unwrap_or_else(|_| project.root.clone());
    let inside = absolute.strip_prefix(&root).ok().map(Path::to_owned);
    let name = path.file_name().map(PathBuf::from);
    let candidates: Vec<PathBuf> = inside.into_iter().chain([path.to_owned()]).chain(name).collect();
    project
        .sources()
        .into_iter()
        .filter_map(|source| {
            let fits = |pattern: &&glob::Pattern| candidates.iter().any(|path| pattern.matches_path(path));
            let pattern = source.files.iter().find(fits)?.as_str().to_owned();
            Some(Claim { source, because: format!("its path fits \"{pattern}\"") })
        })
        .collect()
}

/// Returns the source of a name that was given.
///
/// # Errors
/// When there is none of it.
pub(crate) fn named_source(project: &Project, named: &str) -> Result<Claim, EngineError> {
    let sources = project.sources();
    let known: Vec<&str> = sources.iter().map(|source| source.id.as_str()).collect();
    match sources.iter().find(|source| source.id.as_str() == named) {
        Some(source) => Ok(Claim { source: source.clone(), because: "--source says so".to_owned() }),
        None => {
            let near = fencepost_core::nearest(named, known.iter().copied());
            let help = near
                .map_or_else(|| format!("known are {}", known.join(", ")), |near| format!("did you mean `{near}`?"));
            Err(EngineError::refused(format!("there is no source `{named}`"), help))
        }
    }
}

/// Finds the one source that a file belongs to.
///
/// # Errors
/// When there is none, or more than one.
pub(crate) fn source_of(project: &Project, path: &Path, named: Option<&str>) -> Result<Claim, EngineError> {
    if let Some(named) = named {
        return named_source(project, named);
    }
    if project.config.sources.is_empty() {
        let because = "the workspace names no [[source]], so files hold documents as they are".to_owned();
        return Ok(Claim { source: Source::native(), because });
    }
    let mut claiming = claims(project, path);
    match claiming.len() {
        1 => Ok(claiming.remove(0)),
        0 => {
            let known: Vec<String> = project.sources().iter().map(|source| source.id.to_string()).collect();
            Err(EngineError::refused(
                format!("{} fits no source", path.display()),
                format!(
                    "say which it is with --source ({}), or name it in `files` of a [[source]] in fencepost.toml",
                    known.join(", ")
                ),
            ))
        }
        _ => Err(EngineError::refused(
            format!("{} fits two sources, `{}` and `{}`", path.display(), claiming[0].source.id, claiming[1].source.id),
            "make their `files` differ, or say which it is with --source",
        )),
    }
}

/// The way to a file from the workspace, where it lies in it; else as it was given.
pub(crate) fn shown_path(project: &Project, path: &Path) -> String {
    let inside = path.canonicalize().ok().zip(project.root.canonicalize().ok());
    let inside = inside.and_then(|(path, root)| path.strip_prefix(root).ok().map(Path::to_owned));
    inside.unwrap_or_else(|| path.to_owned()).display().to_string()
}
