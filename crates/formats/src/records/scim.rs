//! Reads people from a SCIM 2.0 list response (RFC 7644 section 3.4.2; users as in RFC 7643 section 4).

use std::collections::HashMap;
use std::io::Read;

use fencepost_core::limits::{self, LIST_RESPONSE_BYTES, LIST_RESPONSE_VALUES};
use serde_json::{Map, Value as Json};

const LIST_RESPONSE: &str = "urn:ietf:params:scim:api:messages:2.0:ListResponse";
const ENTERPRISE: &str = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";

/// A page of people.
#[derive(Debug)]
pub(crate) struct ScimPage {
    /// The people, each as a flat record.
    pub people: Vec<Map<String, Json>>,
    /// It lists everybody: not one page of several.
    pub whole: bool,
}

/// Reads a list response. `id_field` is what names a person; who leads whom is told by the same.
///
/// Each record holds what the user resource holds, the enterprise extension under `enterprise`, and in the words of this
/// tool `name`, `mail`, `unit`, `lead` and `language`.
///
/// # Errors
/// When it is no list response.
pub(crate) fn read_list_response(input: impl Read, id_field: &str) -> Result<ScimPage, String> {
    let mut text = String::new();
    // Its people refer to each other, so it is read whole.
    input.take(LIST_RESPONSE_BYTES + 1).read_to_string(&mut text).map_err(|error| error.to_string())?;
    if text.len() as u64 > LIST_RESPONSE_BYTES {
        let most = limits::size(LIST_RESPONSE_BYTES);
        return Err(format!("a list response may not be longer than {most}; fetch it in pages"));
    }
    // A bound on the values, which take many times their length in memory: each begins after one of these.
    if text.bytes().filter(|byte| matches!(byte, b',' | b'[' | b'{')).count() > LIST_RESPONSE_VALUES {
        return Err(format!("more than {LIST_RESPONSE_VALUES} values in a list response; fetch it in pages"));
    }
    let text = text.trim_start_matches('\u{feff}');
    let mut response: Json = serde_json::from_str(text).map_err(|error| error.to_string())?;
    let named = response["schemas"].as_array().is_some_and(|all| all.iter().any(|one| one == LIST_RESPONSE));
    let resources = match response.get_mut("Resources").map(Json::take) {
        Some(Json::Array(resources)) => resources,
        // Nobody at all is a list response without resources.
        None if named => Vec::new(),
        _ => return Err(format!("this is no SCIM list response: no `Resources` (schema {LIST_RESPONSE})")),
    };
    let total = response["totalResults"].as_u64();
    let whole = total.is_none_or(|total| total <= resources.len() as u64);
    let users: Vec<Map<String, Json>> = resources
        .into_iter()
        .map(|resource| match resource {
            Json::Object(user) => flat(user),
            other => Map::from_iter([("not_a_user".to_owned(), other)]),
        })
        .collect();
    // A manager is named by the service's own id, people are named by what the source says.
    let names: HashMap<String, Json> = users
        .iter()
        .filter_map(|user| Some((user.get("id")?.as_str()?.to_owned(), at(user, id_field)?.clone())))
        .collect();
    let people = users
        .into_iter()
        .map(|mut user| {
            if let Some(lead) = at(&user, "enterprise.manager.value").and_then(Json::as_str) {
                let lead = names.get(lead).cloned().unwrap_or_else(|| lead.into());
                user.insert("lead".to_owned(), lead);
            }
            // The service's own id is not the one that people go by.
            if id_field != "id"
                && let Some(id) = user.shift_remove("id")
            {
                user.insert("service_id".to_owned(), id);
            }
            user
        })
        .collect();
    Ok(ScimPage { people, whole })
}

fn at<'j>(user: &'j Map<String, Json>, path: &str) -> Option<&'j Json> {
    match path.split_once('.') {
        None => user.get(path),
        Some((head, rest)) => rest.split('.').try_fold(user.get(head)?, |json, part| json.get(part)),
    }
}

/// Adds to a user what this tool calls by other names; what is there under such a name already stays.
fn flat(mut user: Map<String, Json>) -> Map<String, Json> {
    for key in ["schemas", "meta", "password"] {
        user.shift_remove(key);
    }
    if let Some(extension) = user.shift_remove(ENTERPRISE) {
        user.insert("enterprise".to_owned(), extension);
    }
    let text = |json: Option<&Json>| json.and_then(Json::as_str).filter(|text| !text.is_empty()).map(Json::from);
    let name = user.shift_remove("name");
    let full = text(user.get("displayName")).or_else(|| text(name.as_ref().and_then(|name| name.get("formatted"))));
    let full = full.or_else(|| {
        let part = |key| name.as_ref().and_then(|name| name.get(key)).and_then(Json::as_str);
        match (part("givenName"), part("familyName")) {
            (Some(given), Some(family)) => Some(format!("{given} {family}").into()),
            (one, other) => one.or(other).map(Json::from),
        }
    });
    let mail = user.get("emails").and_then(Json::as_array).and_then(|all| {
        let primary = all.iter().find(|one| one["primary"] == true).or(all.first());
        text(primary.map(|one| &one["value"]))
    });
    let unit = text(at(&user, "enterprise.department"));
    let language = text(user.get("preferredLanguage"));
    for (key, value) in [("name", full), ("mail", mail), ("unit", unit), ("language", language)] {
        if let (Some(value), false) = (value, user.contains_key(key)) {
            user.insert(key.to_owned(), value);
        }
    }
    user
}

#[cfg(test)]
mod tests {
    use super::*;

    const TWO: &str = r#"{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":2,"startIndex":1,"itemsPerPage":2,"Resources":[
      {"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"7a","userName":"B-1001","name":{"givenName":"Bro","familyName":"Bekdunk"},
       "emails":[{"value":"old@bredesound.example"},{"value":"bro@bredesound.example","primary":true}],"active":true,"preferredLanguage":"nb-NO","password":"x"},
      {"id":"7b","userName":"B-1002","displayName":"Dramott","active":false,
       "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"ships/tern/deck","manager":{"value":"7a"}}}]}"#;

    #[test]
    fn users_become_people_whose_leads_are_named_as_they_are() {
        let page = read_list_response(TWO.as_bytes(), "userName").unwrap();
        assert!(page.whole);
        let text = |at: usize, key: &str| page.people[at][key].as_str().unwrap_or_default().to_owned();
        assert_eq!((text(0, "name"), text(0, "mail")), ("Bro Bekdunk".into(), "bro@bredesound.example".into()));
        assert_eq!((text(1, "unit"), text(1, "lead")), ("ships/tern/deck".into(), "B-1001".into()));
        assert_eq!((text(0, "language"), &page.people[1]["active"]), ("nb-NO".into(), &false.into()));
        assert!(!page.people[0].contains_key("password"));
        assert_eq!(read_list_response(TWO.as_bytes(), "id").unwrap().people[1]["lead"], "7a");
    }

    #[test]
    fn a_page_of_several_is_not_the_whole_list() {
        let page = TWO.replace("\"totalResults\":2", "\"totalResults\":40");
        assert!(!read_list_response(page.as_bytes(), "userName").unwrap().whole);
        assert!(read_list_response(&b"{}"[..], "id").unwrap_err().contains("no SCIM list response"));
        let nobody = format!("{{\"schemas\":[\"{LIST_RESPONSE}\"],\"totalResults\":0}}");
        assert!(read_list_response(nobody.as_bytes(), "id").unwrap().people.is_empty());
    }
}
