//! Small changes of the site file that keep its comments and its layout.

use crate::error::ServiceError;
use toml_edit::{Array, DocumentMut, Value};

/// The site file with one more address for a gateway.
///
/// # Errors
/// The gateway is not in it, or has the address already.
pub fn add_address(text: &str, gateway: &str, address: &str) -> Result<String, ServiceError> {
    let refused = |what: String, remedy: &str| ServiceError::Refused { what, remedy: remedy.to_owned() };
    let unreadable = || refused("the site file in force cannot be edited".into(), "add the address by hand and apply the file");
    let mut document: DocumentMut = text.parse().map_err(|_| unreadable())?;
    let gateways = document.get_mut("gateways").and_then(|item| item.as_array_of_tables_mut()).ok_or_else(unreadable)?;
    let table = gateways.iter_mut().find(|table| table.get("name").and_then(|name| name.as_str()) == Some(gateway));
    let from = table.and_then(|table| table.get_mut("from")).and_then(|from| from.as_value_mut()).ok_or_else(unreadable)?;
    if let Value::String(single) = &*from {
        let mut list = Array::new();
        list.push(single.value().clone());
        let decor = single.decor().clone();
        *from = Value::Array(list);
        *from.decor_mut() = decor;
    }
    let list = from.as_array_mut().ok_or_else(unreadable)?;
    if list.iter().any(|value| value.as_str() == Some(address)) {
        return Err(refused(format!("`{address}` belongs to `{gateway}` already"), "see `bivector gateway list`"));
    }
    list.push(address);
    Ok(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_added_and_nothing_else_changes() {
        let text = "# all\n[[gateways]]\nname = \"a\"  # first\nfrom = [\"192.0.2.1\"] # here\n\n[[gateways]]\nname = \"b\"\nfrom = \"192.0.2.2\" # there\n";
        let changed = add_address(&add_address(text, "a", "192.0.2.7").unwrap(), "b", "2001:db8::/64").unwrap();
        assert_eq!(
            changed,
            text.replace("[\"192.0.2.1\"]", "[\"192.0.2.1\", \"192.0.2.7\"]")
                .replace("\"192.0.2.2\"", "[\"192.0.2.2\", \"2001:db8::/64\"]")
        );
        assert!(add_address(text, "a", "192.0.2.1").unwrap_err().to_string().contains("already"));
        assert!(add_address(text, "c", "192.0.2.1").is_err() && add_address("gateways = 1", "a", "x").is_err());
    }
}
