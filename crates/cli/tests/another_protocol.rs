//! Decisions of a protocol that this release cannot read, such as a later one wrote, in client, API and console.
mod browser;
mod running;
#[path = "../../journal/tests/spoken/mod.rs"]
mod spoken;
#[path = "../../decision/tests/typed/mod.rs"]
mod typed;

use std::sync::Arc;

use browser::*;
use regnant_journal::{Journal, Keep, NodeFile};
use running::*;
use spoken::{SpokenEdition, decision};
use typed::{Crew, House, typed};
use ulid::Ulid;

const POLICY: &str = r#"
grant network { vlan 20 }
gate typed {
  when request.purpose = login
  accept pap
  identify user in harbour
  rule "Night watch" { when user.groups contains "watch" grant network }
  otherwise refuse
}
"#;

#[test]
fn what_another_protocol_asked_is_told_but_for_its_bytes() {
    block_on(async {
        let mut service = Running::harbour();
        let file = service.data.join("typed.writ");
        std::fs::write(&file, POLICY).unwrap();
        service.client(&["policy", "activate"]).arg(&file).succeeds();
        let editions = service.get("policy/editions").1;
        let number = editions["editions"].as_array().unwrap().iter().filter_map(|one| one["number"].as_u64()).max();
        service.end("-TERM");

        let house = House::with(POLICY, Crew::Answers);
        let edition = Arc::new(SpokenEdition { number: number.unwrap() as u32, active: house.active.clone() });
        let node = NodeFile::open(&service.data.join("node.sqlite")).unwrap();
        let journal = Journal::open(&service.data.join("journal"), node, Keep::default(), 100).unwrap();
        let now = jiff::Timestamp::now().as_millisecond().cast_unsigned();
        let ids = [Ulid::from_parts(now, 1), Ulid::from_parts(now, 2)];
        for (id, password) in ids.into_iter().zip(["Tide-Table-61", "x"]) {
            let asked = typed("night", "ida.marsh", password);
            let decided = house.decide(&asked);
            journal.handle().unwrap().slot("desk").unwrap().decision(decision(id, asked, &edition, decided));
        }
        assert_eq!(journal.close(), 0);

        let service = service.again();
        let told = service.client(&["journal", "desk"]).succeeds();
        assert!(told.contains("ida.marsh on desk by pap was given network (VLAN 20) by Night watch."), "{told}");
        assert!(told.contains("ida.marsh on desk by pap was refused: wrong password."), "{told}");
        let unread =
            "A request from 127.0.0.1:7 (desk, firewall at quayside), by a protocol that this release cannot read.";
        let trail = service.client(&["trail", &ids[0].to_string()]).succeeds();
        let flat = trail.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat.contains(unread) && flat.contains("\"Night watch\" is the first rule that is true."), "{trail}");
        let hits = service.get("policy/hits").1;
        let of = |rule: &str| {
            let rules = hits["rules"].as_array().unwrap();
            rules.iter().find(|hit| hit["rule"] == rule).map(|hit| hit["day"].as_u64().unwrap())
        };
        assert_eq!(of("Night watch"), Some(1), "{hits}");

        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/journal/{}", service.api, ids[0])).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;
        browser.sees("was given").await;
        browser.sees("by a protocol that this release cannot read").await;
        browser.sees("Night watch").await;
        browser.page.goto(&format!("{}/journal", service.api)).await.unwrap();
        browser.sees("wrong password").await;
        browser.close().await;
    });
}
