//! Small changes of the site file that keep its comments and its layout.

use bivector_store::error::ServiceError;
use bivector_timing::budget::Amount;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, TableLike, Value, value};

/// The site file with one more address for a gateway.
///
/// # Errors
/// The gateway is not in it, or has the address already.
pub fn add_address(text: &str, gateway: &str, address: &str) -> Result<String, ServiceError> {
    let refused = |what: String, remedy: &str| ServiceError::Refused { what, remedy: remedy.to_owned() };
    let unreadable = || refused("the active site file cannot be edited".into(), "add the address by hand and apply the file");
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

/// A wait to set: the list that it stands in, whose it is, its key there, and its value.
#[derive(Debug, Clone)]
pub struct Wait {
    /// `gateways`, `directories`, `upstreams`, `couriers`, `chains`, or `factors`.
    pub list: &'static str,
    /// The name of the entry.
    pub owner: String,
    /// The setting's key.
    pub key: &'static str,
    /// The value.
    pub amount: Amount,
}

/// The site file with other waits; what is not written in it yet is added where it belongs.
///
/// # Errors
/// The text cannot be edited, or an entry is not in it.
pub fn set_waits(text: &str, waits: &[Wait]) -> Result<String, ServiceError> {
    let refused = |what: String| ServiceError::Refused { what, remedy: "edit the site file by hand".to_owned() };
    let mut document: DocumentMut = text.parse().map_err(|_| refused("the active site file cannot be edited".into()))?;
    for wait in waits {
        let written = match wait.amount {
            Amount::Count(count) => Value::from(i64::from(count)),
            time @ Amount::Time(_) => Value::from(time.written()),
        };
        let missing = || refused(format!("`{}` of `{}` has no place in the active site file", wait.key, wait.owner));
        match (wait.list, wait.key) {
            ("factors", _) => {
                let factors = document.entry("factors").or_insert(Item::Table(Table::new()));
                let factors = factors.as_table_like_mut().ok_or_else(missing)?;
                match wait.owner.as_str() {
                    "codes" => {
                        let sent = factors.entry("sent").or_insert(Item::Table(Table::new()));
                        put(sent.as_table_like_mut().ok_or_else(missing)?, "lasts", written);
                    }
                    _ => put(factors, "prompt_lasts", written),
                }
            }
            (list, key) => {
                let entries = document.get_mut(list).and_then(Item::as_array_of_tables_mut).ok_or_else(missing)?;
                let named = |table: &&mut Table| table.get("name").and_then(Item::as_str) == Some(wait.owner.as_str());
                let entry = entries.iter_mut().find(named).ok_or_else(missing)?;
                if matches!(key, "client_patience" | "second_patience" | "patience") {
                    put(entry, key, written);
                } else {
                    let patience = entry.entry("patience").or_insert(value(InlineTable::new()));
                    put(patience.as_table_like_mut().ok_or_else(missing)?, key, written);
                }
            }
        }
    }
    Ok(document.to_string())
}

/// Sets a value and keeps what stands around it.
fn put(table: &mut dyn TableLike, key: &str, mut new: Value) {
    if let Some(old) = table.get_mut(key).and_then(Item::as_value_mut) {
        *new.decor_mut() = old.decor().clone();
        *old = new;
        return;
    }
    table.insert(key, Item::Value(new));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_are_set_where_they_stand_or_belong_and_comments_stay() {
        let text = "[[gateways]]\nname = \"a\"\npatience = { wait = \"5s\", tries = 3 } # on the device\n\n[[gateways]]\nname = \"b\" # quiet\n\n[[chains]]\nname = \"staff\"\nsecond_patience = \"45s\" # long\n";
        let time = |seconds| Amount::Time(std::time::Duration::from_millis(seconds));
        let wait = |list, owner: &str, key, amount| Wait { list, owner: owner.into(), key, amount };
        let waits = [
            wait("gateways", "a", "wait", time(20_000)),
            wait("gateways", "a", "client_patience", time(60_000)),
            wait("gateways", "b", "tries", Amount::Count(2)),
            wait("chains", "staff", "second_patience", time(2_500)),
            wait("factors", "prompts", "last", time(90_000)),
            wait("factors", "codes", "last", time(300_000)),
        ];
        let changed = set_waits(text, &waits).unwrap();
        for wanted in [
            "patience = { wait = \"20s\", tries = 3 } # on the device\nclient_patience = \"60s\"",
            "name = \"b\" # quiet\npatience = { tries = 2 }",
            "second_patience = \"2500ms\" # long",
            "[factors]\nprompt_lasts = \"90s\"",
            "[factors.sent]\nlasts = \"300s\"",
        ] {
            assert!(changed.contains(wanted), "{wanted} in\n{changed}");
        }
        assert!(set_waits(text, &[wait("gateways", "c", "wait", time(1_000))]).unwrap_err().to_string().contains("no place"));
    }

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
