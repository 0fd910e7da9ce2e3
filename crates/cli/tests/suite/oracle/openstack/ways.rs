//! Ways through documents of the real API.

use super::*;

/// One of some documents with a field, and what it becomes.
pub(super) fn change(
    documents: &mut Documents,
    name: &str,
    at: impl Fn(&Value) -> bool,
    field: &str,
    to: Value,
) {
    let key = name.replace('-', "_");
    let all = documents.get_mut(name).unwrap()[key]
        .as_array_mut()
        .unwrap();
    let found = all
        .iter_mut()
        .find(|one| at(one))
        .unwrap_or_else(|| panic!("{name}"));
    found[field] = to;
}

/// Where something of the real documents stands, as `path` takes it: a port by name, `public:` its floating address.
pub(super) fn place(documents: &Documents, name: &str) -> String {
    let name_of = |port: &Value| {
        format!(
            "{}-{}",
            port["name"].as_str().unwrap(),
            &port["id"].as_str().unwrap()[..8]
        )
    };
    let (public, name) = name
        .strip_prefix("public:")
        .map_or((false, name), |name| (true, name));
    let Some(port) = list(documents, "ports")
        .iter()
        .find(|one| one["name"] == name)
    else {
        return name.to_owned();
    };
    let mut floating = list(documents, "floatingips").iter().filter(|one| {
        one["port_id"] == port["id"] || one["port_forwardings"][0]["internal_port_id"] == port["id"]
    });
    if public {
        floating.next().unwrap()["floating_ip_address"]
            .as_str()
            .unwrap()
            .to_owned()
    } else {
        name_of(port)
    }
}

#[test]
pub(super) fn ways_through_the_real_documents() {
    let documents: Documents = serde_json::from_str(REAL).unwrap();
    let router_port = |at: &'static str| {
        move |one: &Value| {
            one["device_owner"] == "network:router_interface"
                && one["fixed_ips"][0]["ip_address"] == at
        }
    };
    let quay = |one: &Value| one["name"] == "quay";
    let gateway = |one: &Value| one["external_gateway_info"].clone();
    let router = list(&documents, "routers")
        .iter()
        .find(|one| quay(one))
        .unwrap();
    let mut untranslated = gateway(router);
    let inner_router = list(&documents, "routers")
        .iter()
        .find(|one| one["name"] == "inner")
        .unwrap()["id"]
        .clone();
    untranslated["enable_snat"] = false.into();
    type Change<'c> = &'c dyn Fn(&mut Documents);
    let as_is: Change<'_> = &|_| {};
    let no_firewall: Change<'_> = &|documents| {
        documents.insert(
            "firewall-groups".to_owned(),
            json!({ "firewall_groups": [] }),
        );
    };
    let no_rules: Change<'_> = &|documents| _ = documents.remove("firewall-rules");
    let off: Change<'_> =
        &|documents| change(documents, "routers", quay, "admin_state_up", false.into());
    let plain: Change<'_> = &|documents| {
        change(
            documents,
            "routers",
            quay,
            "external_gateway_info",
            untranslated.clone(),
        )
    };
    let routed: Change<'_> = &|documents| {
        change(
            documents,
            "routers",
            quay,
            "routes",
            json!([{ "destination": "10.9.0.0/16", "nexthop": "10.65.1.9" }]),
        );
    };
    let unseen: Change<'_> =
        &|documents| change(documents, "routers", quay, "id", "another".into());
    let high: Change<'_> = &|documents| {
        no_firewall(documents);
        change(
            documents,
            "ports",
            router_port("10.65.1.1"),
            "device_owner",
            "network:ha_router_replicated_interface".into(),
        );
    };
    let spread: Change<'_> = &|documents| {
        change(
            documents,
            "ports",
            router_port("10.65.1.1"),
            "device_owner",
            "network:router_interface_distributed".into(),
        );
    };
    let told: Change<'_> = &|documents| {
        change(
            documents,
            "subnets",
            |one| one["name"] == "tickets-4",
            "host_routes",
            json!([{ "destination": "10.9.0.0/16", "nexthop": "10.65.1.9" }]),
        );
    };
    let beside: Change<'_> = &|documents| {
        change(
            documents,
            "subnets",
            |one| one["name"] == "tickets-4",
            "gateway_ip",
            "10.65.1.254".into(),
        )
    };
    let second: Change<'_> = &|documents| {
        let ports = documents.get_mut("ports").unwrap()["ports"]
            .as_array_mut()
            .unwrap();
        let mut other = ports
            .iter()
            .find(|one| router_port("10.65.1.1")(one))
            .unwrap()
            .clone();
        other["id"] = "11112222-0000".into();
        other["device_id"] = inner_router.clone();
        other["fixed_ips"] = json!([{ "subnet_id": other["fixed_ips"][0]["subnet_id"], "ip_address": "10.65.1.254" }]);
        ports.push(other);
    };
    let dark: Change<'_> = &|documents| {
        change(
            documents,
            "networks",
            |one| one["name"] == "tickets",
            "admin_state_up",
            false.into(),
        )
    };
    let elsewhere: Change<'_> = &|documents| {
        change(
            documents,
            "networks",
            |one| one["name"] == "lonely",
            "provider:physical_network",
            "yard".into(),
        );
        change(
            documents,
            "ports",
            router_port("10.70.1.1"),
            "device_owner",
            "network:dhcp".into(),
        );
        no_firewall(documents);
    };
    let alone: Change<'_> = &|documents| {
        change(
            documents,
            "ports",
            router_port("10.70.1.1"),
            "device_owner",
            "network:dhcp".into(),
        );
        no_firewall(documents);
    };
    let at_machine: Change<'_> = &|documents| {
        let booking = list(documents, "ports")
            .iter()
            .find(|one| one["name"] == "booking")
            .unwrap()["id"]
            .clone();
        change(
            documents,
            "firewall-groups",
            |one| one["name"] == "edge",
            "ports",
            json!([booking]),
        );
    };
    let shut: Change<'_> = &|documents| {
        change(
            documents,
            "firewall-groups",
            |one| one["name"] == "edge",
            "admin_state_up",
            false.into(),
        )
    };
    for (what, changed, from, to, port, begins) in [
        (
            "a floating address",
            as_is,
            "8.8.8.8",
            "public:booking",
            "443",
            "Yes",
        ),
        (
            "the firewall group wants 443",
            as_is,
            "8.8.8.8",
            "public:booking",
            "22",
            "No",
        ),
        (
            "a forwarding",
            as_is,
            "198.51.100.7",
            "public:bastion",
            "2222",
            "Yes",
        ),
        (
            "the bastion's group admits the terminals only",
            no_firewall,
            "8.8.8.8",
            "public:bastion",
            "2222",
            "No",
        ),
        (
            "out by the router's own address",
            as_is,
            "search",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "out by the floating address",
            as_is,
            "booking",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "the egress policy refuses it",
            as_is,
            "search",
            "8.8.8.8",
            "23",
            "No",
        ),
        (
            "without a firewall group",
            no_firewall,
            "search",
            "8.8.8.8",
            "23",
            "Yes",
        ),
        (
            "inside of a network no router is asked",
            as_is,
            "open",
            "fares",
            "23",
            "No",
        ),
        (
            "nor is it for what is open",
            as_is,
            "fares",
            "open",
            "23",
            "Yes",
        ),
        ("from another network", as_is, "booking", "open", "23", "No"),
        (
            "both groups let it pass",
            as_is,
            "booking",
            "open",
            "80",
            "Yes",
        ),
        (
            "beyond the prefix of the rule",
            as_is,
            "booking",
            "fast",
            "80",
            "No",
        ),
        (
            "a group that is switched off drops",
            as_is,
            "default",
            "8.8.8.8",
            "443",
            "No",
        ),
        (
            "a network of its own",
            alone,
            "default",
            "8.8.8.8",
            "443",
            "No",
        ),
        (
            "a network behind something else",
            elsewhere,
            "default",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "rules that are not in the export",
            no_rules,
            "8.8.8.8",
            "public:booking",
            "443",
            "Unknown",
        ),
        (
            "a router that is off",
            off,
            "8.8.8.8",
            "public:booking",
            "443",
            "Unknown",
        ),
        (
            "routes of the router",
            routed,
            "8.8.8.8",
            "public:booking",
            "443",
            "Unknown",
        ),
        (
            "a router of somebody else",
            unseen,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "sources that are not translated",
            plain,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "but floating addresses are",
            plain,
            "booking",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "a router that is there twice",
            high,
            "search",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "a distributed router's filter",
            spread,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "routes of the hosts",
            told,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "a router that is not the gateway",
            beside,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "one of two routers",
            second,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "the filter of one of two routers",
            second,
            "search",
            "8.8.8.8",
            "23",
            "Unknown",
        ),
        (
            "a network that is off",
            dark,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "a firewall group at the machine",
            at_machine,
            "8.8.8.8",
            "public:booking",
            "443",
            "Yes",
        ),
        (
            "and its ingress policy",
            at_machine,
            "search",
            "booking",
            "22",
            "No",
        ),
        (
            "a machine's that is switched off",
            &|documents| {
                at_machine(documents);
                shut(documents);
            },
            "8.8.8.8",
            "public:booking",
            "443",
            "No",
        ),
    ]
        as [(&str, Change<'_>, &str, &str, &str, &str); 32]
    {
        let mut documents = documents.clone();
        changed(&mut documents);
        let folder = imported(&documents);
        let (from, to) = (place(&documents, from), place(&documents, to));
        let answer = folder
            .run(&["path", &from, &to, "--tcp", port, "-e", "snap.yaml"])
            .stdout;
        assert!(
            answer.starts_with(&format!("{begins}: ")),
            "{what}: {answer}"
        );
    }
}
