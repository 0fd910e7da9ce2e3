//! What is left to prove: products of sets that own their spans.

use super::rules::{Point, Product};
use super::spans::{Coordinate, Spans, about, meet, minus};

/// A product of sets, never empty.
#[derive(Clone, Debug)]
pub(super) struct Region<N: Coordinate> {
    pub source: Spans<N>,
    pub destination: Spans<N>,
    pub service: Spans<u32>,
    pub other: Spans<u32>,
}

impl<N: Coordinate> Region<N> {
    pub fn of(product: &Product<'_, N>) -> Self {
        Self {
            source: product.source.into(),
            destination: product.destination.into(),
            service: product.service.into(),
            other: product.other.into(),
        }
    }

    pub fn product(&self) -> Product<'_, N> {
        Product {
            source: &self.source,
            destination: &self.destination,
            service: &self.service,
            other: &self.other,
        }
    }

    /// The packet with the lowest number in each dimension.
    pub fn low(&self) -> Point<N> {
        self.product().low()
    }

    pub fn meet(&self, other: &Product<'_, N>) -> Option<Self> {
        let both = Self {
            service: meet(&self.service, other.service),
            source: meet(&self.source, other.source),
            destination: meet(&self.destination, other.destination),
            other: meet(&self.other, other.other),
        };
        let empty = both.source.is_empty() || both.destination.is_empty();
        (!empty && !both.service.is_empty() && !both.other.is_empty()).then_some(both)
    }

    /// Adds what is left without another product, which meets it: disjoint, at most four.
    pub fn minus(mut self, other: &Product<'_, N>, out: &mut Vec<Self>) {
        let source = minus(&self.source, other.source);
        if !source.is_empty() {
            out.push(Self {
                source,
                ..self.clone()
            });
            self.source = meet(&self.source, other.source);
        }
        let destination = minus(&self.destination, other.destination);
        if !destination.is_empty() {
            out.push(Self {
                destination,
                ..self.clone()
            });
            self.destination = meet(&self.destination, other.destination);
        }
        let rest = minus(&self.other, other.other);
        if !rest.is_empty() {
            out.push(Self {
                other: rest,
                ..self.clone()
            });
            self.other = meet(&self.other, other.other);
        }
        let service = minus(&self.service, other.service);
        if !service.is_empty() {
            out.push(Self { service, ..self });
        }
    }

    /// How much two products share, rounded: to choose by.
    pub fn shared(one: &Product<'_, N>, other: &Product<'_, N>) -> f64 {
        about(&meet(one.source, other.source))
            * about(&meet(one.destination, other.destination))
            * about(&meet(one.service, other.service))
            * about(&meet(one.other, other.other))
    }

    /// One packet.
    pub fn at(point: Point<N>) -> Self {
        Self {
            source: Spans::from_buf([(point.source, point.source)]),
            destination: Spans::from_buf([(point.destination, point.destination)]),
            service: Spans::from_buf([(point.service, point.service)]),
            other: Spans::from_buf([(point.other, point.other)]),
        }
    }
}
