//! What each code of a finding means. The command line, the console's help and `docs/codes.md` have it from
//! here. A code keeps its meaning; one that is given up is never given again.

/// What a code means.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CodeHelp {
    /// The code, such as `W412`.
    pub code: &'static str,
    /// What was found, in a few words.
    pub title: &'static str,
    /// Why it matters, and what to do.
    pub text: &'static str,
}

/// The help for a code; case does not count.
pub fn explain(code: &str) -> Option<&'static CodeHelp> {
    CODES.iter().find(|help| help.code.eq_ignore_ascii_case(code))
}

const fn help(code: &'static str, title: &'static str, text: &'static str) -> CodeHelp {
    CodeHelp { code, title, text }
}

/// Every code, in order.
#[rustfmt::skip]
pub static CODES: [CodeHelp; 96] = [
    help("W100", "the policy is too large", "All files of a policy together have at most 8,000,000 bytes, and there are at most 256 of them. Test groups and lists in the place of single values."),
    help("W101", "a sign that has no meaning", "Texts stand in double quotes, regular expressions between slashes, and a comment begins with `#`. Everything else is words, numbers and the signs `{ } ( ) , = != < <= > >= ..`."),
    help("W102", "a backslash without a meaning", "In a text `\\\"` is a double quote, `\\\\` a backslash and `\\n` the end of a line. Write a backslash twice where one is meant."),
    help("W103", "a text that is not closed", "A text ends with a double quote on the line where it begins."),
    help("W104", "a regular expression that is not closed", "It ends with a slash on the line where it begins; `\\/` is a slash in it."),
    help("W110", "something else was expected", "The finding lists what may stand there. A word that is nearly one of these is most often a slip."),
    help("W111", "a case that expects nothing", "A case tests the policy: end it with `expect grant NAME`, `expect refuse` or `expect silence`."),
    help("W112", "said twice", "A gate, a rule or a trust says this once, so that nobody need know which of two counts."),
    help("W113", "something after `otherwise`", "`otherwise` stands last in its gate, as it is read last: it decides where no rule does."),
    help("W114", "a rule that is not whole", "A rule has a condition (`when`) and a result (`grant`, `refuse` or `silence`). What applies to everybody is `otherwise`."),
    help("W115", "no name", "A name begins with a letter and goes on with letters, digits, `-` and `_`."),
    help("W120", "nested too deeply", "Give the inner parts names with `define`."),
    help("W121", "`and` and `or` mixed", "Which belongs together is not left to a rule that readers might not know: put parentheses around it."),
    help("W122", "`matches` without a regular expression", "Write it between slashes: `matches /^crane-[0-9]+$/`."),
    help("W130", "a path that is none", "`include` names a .writ file of the policy's folder, by its path in it. What lies outside is never read."),
    help("W131", "a file that is not there", "The file is in no edition and in no folder that was sent. Add it, or mend the name."),
    help("W132", "a file that is included again", "Each file is included once, and none by itself through others: what it holds counts in every file."),
    help("W133", "a gate outside main.writ", "Gates are tried in the order written, so that they stand together in `main.writ`, with `zone`. Included files may hold `define`, `list`, `acl`, `grant` and `case`."),
    help("W140", "no time zone", "Zones are named by area and city, as the IANA time zone database has them: `Europe/Lisbon`."),
    help("W141", "hours without a zone", "Whose clock shows them? Say it at the top of `main.writ`: `zone \"Europe/Lisbon\"`."),
    help("W142", "a rule that ends before it begins", "`from` is the first moment at which it counts, `until` the first at which it does no more."),
    help("W143", "`always` on a rule that grants", "`always` has a rule refuse where its gate is watched (`observe`), too. A rule that grants does so anyway."),
    help("W201", "no such fact", "A policy asks facts by name; the list is in the language's documentation. An attribute is `request.NAME`, and one of yours is declared with `regnant attribute add`. Some facts are known only after the rules."),
    help("W202", "a word that is none of these", "The finding lists the words that may stand there."),
    help("W203", "two of one name", "Give one of them another name: references would fit both."),
    help("W204", "a condition that is defined by itself", "Follow the definitions: somewhere they come back to where they began."),
    help("W205", "nothing defines this", "A word without a point is the name of a `define`; a fact has one, such as `nas.site`."),
    help("W206", "a comparison that begins with a value", "Write the fact first: `nas.site = \"quayside\"`."),
    help("W208", "no such list", "Write `list NAME = { ... }`, or the members in braces where they are asked for."),
    help("W210", "a value of another type", "Every fact has a type, and is compared with values of it: texts in quotes, numbers, addresses, durations such as `8h`, moments such as `2026-12-01T06:00Z`."),
    help("W211", "a value where a condition is expected", "Only facts that are true or false stand alone; others are compared: `=`, `in`, `contains`."),
    help("W212", "a set compared as a whole", "Ask a set with `contains`, `any of ... in { ... }` or `all of ... in { ... }`; of single values ask `in { ... }`."),
    help("W213", "a duration that no attribute carries", "It is zero, or longer than 136 years."),
    help("W214", "two types compared", "Compare like with like."),
    help("W215", "`in` without what holds something", "Write a set in braces, a range such as `1..12`, a block such as `10.44.0.0/16`, the name of a list, or `group \"name\"`."),
    help("W216", "no address block", "Write an address and the bits of its prefix: `10.44.0.0/16`. Bits after the prefix are zero."),
    help("W217", "a type without an order", "Numbers, durations, moments, addresses and MAC addresses can be smaller or greater; of others ask `=`, `!=` or `in { ... }`."),
    help("W218", "no text", "Functions, `starts with` and the like work on texts."),
    help("W219", "a regular expression that cannot be used", "The note says why. Expressions have no references back, so that they take bounded time."),
    help("W220", "fixed values compared", "One side of a comparison is a fact: else it is always the same."),
    help("W221", "too many comparisons", "The time of a decision is bounded. Test sets, lists and groups in the place of single values."),
    help("W222", "a function with other values", "The finding says how many it takes."),
    help("W223", "a second value of another kind", "`before` and `after` take a text, `capture` a regular expression; a text behind a fact asks a set for a member of that key."),
    help("W224", "definitions that build on too many others", "Let fewer build on one another."),
    help("W301", "no place in an access list", "Write any, this, an address or a block."),
    help("W302", "ports without a protocol that has them", "Only tcp and udp have ports."),
    help("W303", "no port", "Ports are 0 to 65535."),
    help("W304", "a range that ends before it begins", "Write the lower number first."),
    help("W311", "a grant that extends itself", "Follow `extends`: it comes back to where it began, or through too many grants."),
    help("W312", "a statement twice in one grant", "It has a single value: NASes would take one of the two, and nobody knows which."),
    help("W313", "a number outside its range", "The finding says which range."),
    help("W314", "a text of a length that does not fit", "Attributes carry at most 253 bytes."),
    help("W315", "no name of an access list", "Write the bare name of a list of this policy; a list that the NAS has itself is `filter \"name\"`."),
    help("W316", "no such access list", "Write `acl NAME { ... }`, or mend the name."),
    help("W317", "a word is expected", "The finding lists the words that may stand there."),
    help("W318", "no such grant", "Write `grant NAME { ... }`, or mend the name."),
    help("W319", "grants that contradict one another", "Two grants of one rule both say what can be said once. Leave it to one of them, or let one extend the other."),
    help("W320", "a NAS that cannot be told", "A dialect has no way to say this, or two statements go into one attribute of it. Change the grant, or keep those NASes in a gate of their own."),
    help("W321", "a statement that lacks a part", "The finding says which."),
    help("W322", "a part said twice", "Say it once."),
    help("W324", "no such attribute", "Attributes of the RFCs are known; those of a vendor are added with `regnant dictionary add`."),
    help("W325", "an attribute that cannot be sent", "The service makes it itself, or it has no place in an Access-Accept."),
    help("W326", "a default that never counts", "`or` is for a value that comes from a fact."),
    help("W327", "an access list from a fact", "Access lists are named, so that they are checked before they count."),
    help("W328", "a value that may be absent", "Write what counts then: `vlan user.vlan or 20`."),
    help("W329", "no rate", "Rates are bits a second: `500k`, `10M`, `1G`."),
    help("W330", "an address of the other family", "`address` is IPv4, `address6` IPv6."),
    help("W331", "a fact of a type that does not fit here", "Here stands one text, number or address; sets and conditions do not."),
    help("W332", "a duration that is too short", "The finding says what the shortest is."),
    help("W333", "an attribute that is no secret", "`secret \"name\"` is for attributes whose value is hidden on the wire; in another it would be shown and kept."),
    help("W334", "no such secret", "Keep it with `regnant secret set NAME`: its value never stands in a policy."),
    help("W401", "a gate chosen by what is not known yet", "A gate is chosen at the first packet, by `nas.*`, `time.now` and what the packet says in `request.*`. Ask the rest in rules."),
    help("W402", "a gate that lacks a part", "A gate says which methods it accepts, where identities are proved and what happens otherwise."),
    help("W403", "a name from elsewhere", "`as` works on `claimed.name`; a MAC address has no other name, and no certificate."),
    help("W404", "no store that fits", "The store is not there, holds another kind of identity, or tells facts alone."),
    help("W405", "a reaction that does not fit its event", "`next` needs a next store, and `use stale` a store that did not answer."),
    help("W406", "methods that do not go together", "Tunnels list what goes inside; not everything goes into each."),
    help("W407", "certificates that nobody could be named by", "A gate that accepts certificates presents one, trusts somebody and says where names stand."),
    help("W408", "no such certificate or trust", "`regnant certificate list` and `regnant trust list` tell what there is."),
    help("W409", "no gate", "Without a gate everybody is refused. Where that is meant, say so: `gate nobody { otherwise refuse }`."),
    help("W411", "a group name that fits two groups", "Write the distinguished name of the one that is meant."),
    help("W412", "a copy that nobody has looked at", "A copied rule that still gives what the first one gave is a costly slip. See what it gives, and remove the words `copied from`; until then it cannot be activated."),
    help("W501", "something that nothing uses", "Use it, or remove it: readers take it for something that counts."),
    help("W502", "something that has no effect", "An access list without an entry denies everything; a trust counts only where certificates prove somebody."),
    help("W503", "a group that no store has", "Nobody is in it until it is there. Groups of directories are looked at every hour."),
    help("W504", "a file that nothing includes", "What is in it does not count. Include it, or remove it."),
    help("W505", "a rule that has ended", "It gives nobody anything any more. Remove it."),
    help("W506", "a rule that ends soon", "Within a week. Let it end, or give it a later end."),
    help("W507", "a rule that is off", "It is passed over as if it were not there. Remove `off`, or the rule."),
    help("W508", "a gate that is watched", "What it would refuse is given access, and journaled as observed. Remove `observe` once only those are among them whom it should refuse."),
    help("W601", "a case that fails", "The policy decides something else than the case expects. The finding says what, and by which rule."),
    help("W602", "a fact given twice", "A case states each fact once."),
    help("W603", "a set where one value is expected", "Give one value, without braces."),
    help("W604", "no such rule", "The case names a rule by its title, as the gate has it."),
    help("W605", "a fact that is never unanswered", "The request itself says it. Leave it out where it is absent."),
    help("W606", "a case that expects a fact", "A case states facts, and so knows the value that it expects."),
];
