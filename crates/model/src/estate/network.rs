//! Networks, subnets, interfaces and public addresses.

use super::*;

/// A virtual network.
#[derive(Clone, Debug)]
pub struct Network {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Its address blocks.
    pub blocks: Addresses,
    /// The same as written: the lengths of automatic routes.
    pub written_blocks: Vec<Range>,
    /// The innermost division it belongs to.
    pub division: Option<Id<Division>>,
    /// The table of subnets that name none; none for automatic routes only.
    pub main_table: Option<Reference<RouteTable>>,
    /// Whether it may talk to the internet.
    pub internet_traffic: InternetTraffic,
    /// Its settings, each given or at its default.
    pub settings: Settings,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its tags.
    pub tags: Tags,
}

/// A part of a network's space.
#[derive(Clone, Debug)]
pub struct Subnet {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The network.
    pub network: Id<Network>,
    /// Its address blocks.
    pub blocks: Addresses,
    /// Its network ACL; none is not a stage.
    pub acl: Option<Reference<Filter>>,
    /// Security groups enforced at each of its interfaces.
    pub groups: Vec<Reference<Filter>>,
    /// Its route table; none for the network's main table.
    pub route_table: Option<Reference<RouteTable>>,
    /// Whether it may talk to the internet.
    pub internet_traffic: InternetTraffic,
    /// Whether what no route takes goes to the internet from the platform's own shared address.
    pub default_outbound: bool,
    /// Whether stages apply at private doors here; none for the network's setting.
    pub filter_private_doors: Option<bool>,
    /// How many IPv4 addresses it must be able to hold; none for what it holds now.
    pub needs: Option<u32>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its tags.
    pub tags: Tags,
}

/// What runs behind one or several interfaces.
#[derive(Clone, Debug)]
pub struct Workload {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The account it runs as.
    pub service_identity: Option<Name>,
    /// Its own firewall, at each of its interfaces that names no other.
    pub own_firewall: Option<Reference<Filter>>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its tags.
    pub tags: Tags,
}

/// A network card.
#[derive(Clone, Debug)]
pub struct Interface {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// Where it stands.
    pub subnet: Id<Subnet>,
    /// Its own addresses and held prefixes as written; the first of each family is the primary one.
    pub written_addresses: Vec<Block>,
    /// All addresses it holds, never mapped ones.
    pub addresses: Addresses,
    /// Security groups, in binding order.
    pub groups: Vec<Reference<Filter>>,
    /// What runs behind it.
    pub workload: Option<Id<Workload>>,
    /// The account, if it differs from the workload's.
    pub service_identity: Option<Name>,
    /// The own firewall, the workload's if none is named here.
    pub own_firewall: Option<Reference<Filter>>,
    /// Whether it may pass on packets that are not its own.
    pub forwards: bool,
    /// Whether the platform exempts it from all stages but the ACL.
    pub unfiltered: bool,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
    /// Its own tags.
    pub tags: Tags,
}

impl Interface {
    /// Its primary address of a family: the first that was written.
    pub fn primary(&self, family: Family) -> Option<IpAddr> {
        let first = self
            .written_addresses
            .iter()
            .find(|block| block.range.family == family)?;
        Some(address_of(family, first.range.first))
    }
}

/// A public address that an interface holds.
#[derive(Clone, Debug)]
pub struct PublicAddress {
    /// The address in canonical text: its name.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// The address.
    pub address: IpAddr,
    /// Who holds it; none if nobody does.
    pub interface: Option<Id<Interface>>,
    /// The interface's own address that it stands for.
    pub private: Option<IpAddr>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}

/// One item of an address set.
#[derive(Clone, Debug)]
pub enum SetItem {
    /// An address, a prefix or a range.
    Block(Block),
    /// Another set.
    Set(Reference<AddressSet>),
}

/// A named list of prefixes; may nest.
#[derive(Clone, Debug)]
pub struct AddressSet {
    /// The name as written.
    pub name: Name,
    /// Where it was written.
    pub origin: Origin,
    /// What it holds; none if the platform keeps that to itself.
    pub content: Option<Vec<SetItem>>,
    /// Who changes it.
    pub owner: Option<Id<Owner>>,
}
