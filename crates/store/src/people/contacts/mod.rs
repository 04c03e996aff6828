//! Contacts: the [`list`] with paging, sorting and search over people kept in [`order`], one [`person`] whole,
//! and the [`profile`] that imports and hands write.

mod countries;
mod list;
pub mod look;
mod order;
mod person;
mod profile;

pub(crate) use countries::by_code;
pub use countries::{CountryPeople, countries};
pub use list::{ContactRow, EXPORTED, Page, Query, Sort, by_ids, export, export_query, matching, page, present};
pub(crate) use order::Orders;
pub use order::keep as keep_orders;
pub use person::{Contact, Event, Message, Purchase, Response, one};
pub(crate) use profile::insert;
pub use profile::{Profile, add, address_of, addressed, differs, domain_id, find, id_of, now, profile, replace_profile, update};
