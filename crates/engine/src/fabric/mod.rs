//! A view with what many questions share about it: made once, when first asked, and shared by all threads.

mod holders;
mod public;
mod roles;
mod shared;

pub use holders::{Holder, Holders, place_of_balancer};
pub use public::{PublicHolder, PublicIndex, internet_gateway};
pub use roles::Role;

use crate::effective::{classes, stage_classes};
use crate::policy::{PolicyKey, PolicyMap, policy_map};
use crate::route::{Candidates, RoutePlace, candidates, domain_candidates};
use crate::stage::{Chain, Stage, acl_of, own_stages, platform_traffic};
use heronshale_model::estate::{
    Direction, Estate, Filter, Hub, Id, Interface, Network, Reference, RouteTable, Subnet,
};
use heronshale_model::limits::Limits;
use heronshale_model::stated::Stated;
use heronshale_model::tuning::Tuning;
use heronshale_model::view::{Same, View, is_same_filter};
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::{PacketSet, for_all};
use rustc_hash::FxHashMap;
use shared::Shared;
use std::ops::Deref;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

/// Class or subnet, whether packets come in, whether the stages are asked about replies.
type SideKey = (u32, bool, bool);

/// Network, subnet, sender, table.
type TableKey = (
    Id<Network>,
    Option<Id<Subnet>>,
    Option<Id<Interface>>,
    Option<Reference<RouteTable>>,
);

/// A view, and what is worked out on it once for all that ask.
pub struct Fabric<'e> {
    view: View<'e>,
    stage_classes: OnceLock<Arc<Vec<u32>>>,
    class_numbers: OnceLock<Arc<Vec<u32>>>,
    roles: OnceLock<Arc<FxHashMap<Id<Interface>, Role>>>,
    public: OnceLock<Arc<PublicIndex>>,
    platform: OnceLock<Arc<PacketSet>>,
    internet_end: OnceLock<Arc<Addresses>>,
    chains: Shared<SideKey, Chain>,
    acls: Shared<SideKey, Option<Chain>>,
    tables: Shared<TableKey, Candidates>,
    domains: Shared<(Id<Hub>, usize), Candidates>,
    holders: Shared<Id<Network>, Holders>,
    policies: Shared<PolicyKey, PolicyMap>,
    given_up: AtomicBool,
}

impl<'e> Deref for Fabric<'e> {
    type Target = View<'e>;

    fn deref(&self) -> &View<'e> {
        &self.view
    }
}

impl<'e> From<View<'e>> for Fabric<'e> {
    fn from(view: View<'e>) -> Self {
        Self {
            view,
            stage_classes: OnceLock::new(),
            class_numbers: OnceLock::new(),
            roles: OnceLock::new(),
            public: OnceLock::new(),
            platform: OnceLock::new(),
            internet_end: OnceLock::new(),
            chains: Shared::default(),
            acls: Shared::default(),
            tables: Shared::default(),
            domains: Shared::default(),
            holders: Shared::default(),
            policies: Shared::default(),
            given_up: AtomicBool::new(false),
        }
    }
}

impl<'e> Fabric<'e> {
    /// A fabric on a view of an estate of which nothing is stated. `at` overrides the snapshot's own time.
    pub fn new(estate: &'e Estate, at: Option<jiff::Timestamp>) -> Self {
        Self::stating(estate, at, Stated::default())
    }

    /// The same, within other limits.
    pub fn within(estate: &'e Estate, limits: Limits) -> Self {
        View::new(estate, None, Tuning::default(), Stated::default())
            .within(limits)
            .into()
    }

    /// The same, with what is stated.
    pub fn stating(estate: &'e Estate, at: Option<jiff::Timestamp>, stated: Stated) -> Self {
        View::new(estate, at, Tuning::default(), stated).into()
    }

    /// The same questions to a copy of the estate with changes. What rests only on what the copy shares with the estate is not
    /// worked out anew.
    pub fn after<'c>(&self, copy: &'c Estate) -> Fabric<'c> {
        let same = Same::of(self.estate, copy);
        let mut fabric = Fabric::from(self.view.after(copy));
        if same.all_but_filters() {
            fabric.tables = self.tables.kept(|_, _| true);
            fabric.domains = self.domains.kept(|_, _| true);
        }
        if same.firewalls && same.balancers && same.services {
            fabric.roles.clone_from(&self.roles);
        }
        if same.bounds && same.index {
            fabric.public.clone_from(&self.public);
            fabric.internet_end.clone_from(&self.internet_end);
        }
        if same.gaps {
            fabric.platform.clone_from(&self.platform);
        }
        if same.index && same.balancers && same.gateways {
            fabric.holders = self.holders.kept(|_, _| true);
        }
        if !same.peers() || !self.has_same_classes(copy) {
            return fabric;
        }
        fabric.stage_classes.clone_from(&self.stage_classes);
        fabric.class_numbers.clone_from(&self.class_numbers);
        let is_kept = |chain: &Chain| {
            let mut filters = chain.stages.iter().flat_map(|stage| &stage.filters);
            filters.all(|filter| is_same_filter(self.estate, copy, *filter))
        };
        fabric.chains = self.chains.kept(|_, chain| is_kept(chain));
        fabric.acls = self
            .acls
            .kept(|_, chain| chain.as_ref().is_some_and(is_kept));
        if same.filters && same.names {
            fabric.policies = self.policies.kept(|_, _| true);
        }
        fabric
    }

    /// Whether interfaces are in the classes in which they were, given that nothing but filters may differ: which are enforced
    /// where, and whether some rule of each is about the own addresses.
    fn has_same_classes(&self, copy: &Estate) -> bool {
        let is_local = |filter: &Filter| {
            filter
                .rules
                .iter()
                .flatten()
                .any(|rule| rule.local.is_some())
        };
        self.estate.filters.iter().all(|(id, filter)| {
            let other = &copy.filters[id];
            is_same_filter(self.estate, copy, id)
                || (filter.kind == other.kind && is_local(filter) == is_local(other))
        })
    }

    /// For each interface a number: those of one number have the same stages, their subnets' ACLs left out.
    pub fn stage_classes(&self) -> &[u32] {
        self.stage_classes
            .get_or_init(|| Arc::new(for_all(|| stage_classes(&self.view))))
    }

    /// For each interface the number of its class.
    pub fn class_numbers(&self) -> &[u32] {
        self.class_numbers.get_or_init(|| {
            let mut of = vec![0; self.estate.interfaces.len()];
            for (number, class) in (0_u32..).zip(for_all(|| classes(&self.view))) {
                for member in class.members {
                    of[member.index()] = number;
                }
            }
            Arc::new(of)
        })
    }

    /// The class number of an interface.
    pub fn class_number(&self, interface: Id<Interface>) -> u32 {
        self.class_numbers()[interface.index()]
    }

    /// The interfaces that are part of devices.
    pub fn roles(&self) -> &FxHashMap<Id<Interface>, Role> {
        self.roles
            .get_or_init(|| Arc::new(roles::roles(&self.view)))
    }

    /// Who holds which public address.
    pub fn public_index(&self) -> &PublicIndex {
        self.public
            .get_or_init(|| Arc::new(for_all(|| PublicIndex::new(&self.view))))
    }

    /// Traffic of the platform itself, which no stage filters.
    pub fn platform_traffic(&self) -> &PacketSet {
        self.platform
            .get_or_init(|| Arc::new(for_all(|| platform_traffic(&self.view))))
    }

    /// The internet as an end of a connection.
    pub fn internet_as_end(&self) -> &Addresses {
        self.internet_end
            .get_or_init(|| Arc::new(for_all(|| self.view.internet_end())))
    }

    /// The stages of an interface, its subnet's ACL left out; `mirrored`: as they are asked about replies.
    pub fn chain(
        &self,
        interface: Id<Interface>,
        direction: Direction,
        mirrored: bool,
    ) -> Arc<Chain> {
        let key = (
            self.class_number(interface),
            direction == Direction::In,
            mirrored,
        );
        self.chains.get(key, || {
            if mirrored {
                mirror(&self.chain(interface, direction, false))
            } else {
                own_stages(&self.view, interface, direction)
            }
        })
    }

    /// A subnet's ACL, if it has one.
    pub fn acl(
        &self,
        subnet: Id<Subnet>,
        direction: Direction,
        mirrored: bool,
    ) -> Arc<Option<Chain>> {
        let number = u32::try_from(subnet.index()).unwrap_or(u32::MAX);
        self.acls
            .get((number, direction == Direction::In, mirrored), || {
                if mirrored {
                    self.acl(subnet, direction, false)
                        .as_ref()
                        .as_ref()
                        .map(mirror)
                } else {
                    let stage = acl_of(&self.view, subnet, direction)?;
                    Some(Chain {
                        direction,
                        stages: vec![stage],
                    })
                }
            })
    }

    /// The routes that apply at a place.
    pub fn candidates(&self, place: RoutePlace<'_>) -> Arc<Candidates> {
        let key = (
            place.network,
            place.subnet,
            place.sender,
            place.table.cloned(),
        );
        self.tables.get(key, || candidates(&self.view, place))
    }

    /// The routes of a hub's domain.
    pub fn domain_candidates(&self, hub: Id<Hub>, domain: usize) -> Arc<Candidates> {
        self.domains
            .get((hub, domain), || domain_candidates(&self.view, hub, domain))
    }

    /// Who holds which addresses of a network.
    pub fn holders(&self, network: Id<Network>) -> Arc<Holders> {
        self.holders
            .get(network, || Holders::new(&self.view, network))
    }

    /// A firewall's policy as it is read between two zones.
    pub(crate) fn policy(&self, key: PolicyKey) -> Arc<PolicyMap> {
        self.policies
            .get(key.clone(), || policy_map(&self.view, &key))
    }

    /// Says that a question was given up at a declared limit.
    pub fn give_up(&self) {
        self.given_up.store(true, Ordering::Relaxed);
    }

    /// Whether one of the questions so far was given up.
    pub fn gave_up(&self) -> bool {
        self.given_up.load(Ordering::Relaxed)
    }
}

/// The same stages, asked about replies.
fn mirror(chain: &Chain) -> Chain {
    Chain {
        direction: chain.direction,
        stages: chain.stages.iter().map(Stage::mirrored).collect(),
    }
}
