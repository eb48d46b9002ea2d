//! Reads what is installed on a device from documents of open formats: CycloneDX 1.5 (ECMA-424) and SPDX 2.3 (ISO/IEC 5962), as JSON.

use std::io::Read;

use fencepost_core::limits::{self, RECORD_BYTES};
use serde::Deserialize;
use serde_json::{Map, Value as Json, json};

use super::mapping::RawRecord;
use crate::workspace::Format;

/// A CycloneDX document.
#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct CycloneDx {
    bom_format: String,
    #[serde(default)]
    metadata: CycloneMetadata,
    #[serde(default)]
    components: Vec<CycloneComponent>,
}

#[derive(Default, Deserialize)]
struct CycloneMetadata {
    timestamp: Option<String>,
    component: Option<CycloneComponent>,
}

#[derive(Deserialize)]
struct CycloneComponent {
    name: Option<String>,
    version: Option<String>,
    publisher: Option<String>,
    supplier: Option<CycloneSupplier>,
    purl: Option<String>,
    /// What is a part of it.
    #[serde(default)]
    components: Vec<CycloneComponent>,
}

#[derive(Deserialize)]
struct CycloneSupplier {
    name: Option<String>,
}

/// An SPDX document.
#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx {
    spdx_version: String,
    name: Option<String>,
    #[serde(default)]
    creation_info: SpdxCreation,
    #[serde(default)]
    packages: Vec<SpdxPackage>,
}

#[derive(Default, Deserialize)]
struct SpdxCreation {
    created: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct SpdxPackage {
    name: Option<String>,
    version_info: Option<String>,
    supplier: Option<String>,
    #[serde(default)]
    external_refs: Vec<SpdxReference>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct SpdxReference {
    reference_type: String,
    reference_locator: String,
}

/// An installed program.
struct Program {
    name: String,
    version: Option<String>,
    supplier: Option<String>,
    purl: Option<String>,
}

/// Reads a document as one record: the list `software` of name, version, supplier and package URL, beside `name`, what it describes, and when it was made:
/// `timestamp` or `created`, as the format calls it.
///
/// # Errors
/// When it is no document of its format, or too large.
pub(crate) fn read_software_list(input: impl Read, format: Format) -> Result<RawRecord, String> {
    let mut bytes = Vec::new();
    input.take(RECORD_BYTES as u64 + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() > RECORD_BYTES {
        return Err(format!("a list of software may not be longer than {}", limits::size(RECORD_BYTES as u64)));
    }
    let text = bytes.strip_prefix("\u{feff}".as_bytes()).unwrap_or(&bytes);
    match format {
        Format::Spdx => spdx(text),
        _ => cyclone_dx(text),
    }
}

fn no_document(name: &str, error: &serde_json::Error) -> String {
    format!("line {}, column {}: this is no {name} document: {error}", error.line(), error.column())
}

fn cyclone_dx(text: &[u8]) -> Result<RawRecord, String> {
    let document: CycloneDx = serde_json::from_slice(text).map_err(|error| no_document("CycloneDX", &error))?;
    if document.bom_format != "CycloneDX" {
        return Err("its bomFormat is not CycloneDX".to_owned());
    }
    let mut programs = Vec::new();
    let mut waiting: Vec<CycloneComponent> = document.components.into_iter().rev().collect();
    while let Some(component) = waiting.pop() {
        let CycloneComponent { name, version, publisher, supplier, purl, components } = component;
        waiting.extend(components.into_iter().rev());
        let supplier = supplier.and_then(|supplier| supplier.name).or(publisher);
        programs.extend(name.map(|name| Program { name, version, supplier, purl }));
    }
    let name = document.metadata.component.and_then(|component| component.name);
    Ok(SoftwareList { name, time_key: "timestamp", time: document.metadata.timestamp, programs }.into_record())
}

fn spdx(text: &[u8]) -> Result<RawRecord, String> {
    let document: Spdx = serde_json::from_slice(text).map_err(|error| no_document("SPDX", &error))?;
    if !document.spdx_version.starts_with("SPDX-2.") {
        return Err(format!("its spdxVersion is {}, and not SPDX-2.3", limits::quoted(&document.spdx_version)));
    }
    let said = |text: Option<String>| text.filter(|text| !matches!(text.as_str(), "NOASSERTION" | "NONE" | ""));
    let programs = document.packages.into_iter().filter_map(|package| {
        let supplier = said(package.supplier).map(|supplier| {
            let name = supplier.strip_prefix("Organization:").or_else(|| supplier.strip_prefix("Person:"));
            name.unwrap_or(&supplier).trim().to_owned()
        });
        let purl = package.external_refs.into_iter().find(|reference| reference.reference_type == "purl");
        let purl = purl.map(|reference| reference.reference_locator);
        Some(Program { name: package.name?, version: said(package.version_info), supplier, purl })
    });
    let list = SoftwareList {
        name: document.name,
        time_key: "created",
        time: document.creation_info.created,
        programs: programs.collect(),
    };
    Ok(list.into_record())
}

/// The software of a device, of either format.
struct SoftwareList {
    /// What the document calls the device.
    name: Option<String>,
    /// What the format calls the moment at which the list was made.
    time_key: &'static str,
    time: Option<String>,
    programs: Vec<Program>,
}

impl SoftwareList {
    /// Makes a record of it; what is not said is left out.
    fn into_record(self) -> RawRecord {
        let mut members = Map::new();
        let add = |members: &mut Map<String, Json>, key: &str, value: Option<String>| {
            if let Some(value) = value {
                members.insert(key.to_owned(), Json::String(value));
            }
        };
        add(&mut members, "name", self.name);
        add(&mut members, self.time_key, self.time);
        let items = self.programs.into_iter().map(|program| {
            let mut item = Map::new();
            add(&mut item, "name", Some(program.name));
            add(&mut item, "version", program.version);
            add(&mut item, "supplier", program.supplier);
            add(&mut item, "purl", program.purl);
            Json::Object(item)
        });
        members.insert("software".to_owned(), json!(items.collect::<Vec<_>>()));
        members.into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str, format: Format) -> Result<Json, String> {
        read_software_list(text.as_bytes(), format).map(|record| Json::Object(record.members))
    }

    #[test]
    fn components_with_their_parts_are_programs() {
        let text = r#"{"bomFormat":"CycloneDX","specVersion":"1.5","metadata":{"timestamp":"2027-03-14T05:00:00Z","component":{"type":"device","name":"tern-1"}},
            "components":[{"type":"application","name":"hullplan","version":"4.2.1","supplier":{"name":"Quaymark"},"purl":"pkg:generic/hullplan@4.2.1",
            "components":[{"name":"hullplan-maps","version":"2"}]},{"name":"guardd","publisher":"Pierlight","licenses":[]}]}"#;
        assert_eq!(
            read(text, Format::CycloneDx).unwrap(),
            json!({"name": "tern-1", "timestamp": "2027-03-14T05:00:00Z", "software": [
                {"name": "hullplan", "version": "4.2.1", "supplier": "Quaymark", "purl": "pkg:generic/hullplan@4.2.1"},
                {"name": "hullplan-maps", "version": "2"},
                {"name": "guardd", "supplier": "Pierlight"},
            ]})
        );
        assert_eq!(read(r#"{"bomFormat":"CycloneDX"}"#, Format::CycloneDx).unwrap(), json!({"software": []}));
    }

    #[test]
    fn packages_are_programs_and_no_assertion_says_nothing() {
        let text = r#"{"spdxVersion":"SPDX-2.3","name":"tern-1","creationInfo":{"created":"2027-03-14T05:00:00Z"},"packages":[
            {"name":"hullplan","versionInfo":"4.2.1","supplier":"Organization: Quaymark","externalRefs":[
             {"referenceCategory":"SECURITY","referenceType":"cpe23Type","referenceLocator":"cpe:2.3:a:q:h"},
             {"referenceCategory":"PACKAGE-MANAGER","referenceType":"purl","referenceLocator":"pkg:generic/hullplan@4.2.1"}]},
            {"name":"guardd","versionInfo":"NOASSERTION","supplier":"NOASSERTION"}]}"#;
        assert_eq!(
            read(text, Format::Spdx).unwrap(),
            json!({"name": "tern-1", "created": "2027-03-14T05:00:00Z", "software": [
                {"name": "hullplan", "version": "4.2.1", "supplier": "Quaymark", "purl": "pkg:generic/hullplan@4.2.1"},
                {"name": "guardd"},
            ]})
        );
    }

    #[test]
    fn other_documents_are_refused_with_their_place() {
        for (text, format, says) in [
            ("{}", Format::CycloneDx, "no CycloneDX document: missing field `bomFormat`"),
            (r#"{"bomFormat":"SPDX"}"#, Format::CycloneDx, "bomFormat is not CycloneDX"),
            (r#"{"spdxVersion":"SPDX-3.0"}"#, Format::Spdx, "SPDX-3.0, and not SPDX-2.3"),
            ("{\n\"spdxVersion\":7}", Format::Spdx, "line 2, column 15"),
            (r#"{"bomFormat":"CycloneDX","components":[{"name":1}]}"#, Format::CycloneDx, "line 1, column 48"),
        ] {
            let error = read(text, format).unwrap_err();
            assert!(error.contains(says), "{text}: {error}");
        }
        let deep = format!("{{\"bomFormat\":\"CycloneDX\",\"components\":{}", "[{\"components\":".repeat(5_000));
        assert!(read(&deep, Format::CycloneDx).is_err());
    }
}
