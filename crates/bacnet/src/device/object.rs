use super::trend_log::TrendLog;
use crate::apdu::Error;
use crate::primitive::{BitString, Content, ObjectIdentifier, ObjectType, PropertyIdentifier, Value};
use crate::service::{Priority, PropertyReference};
use std::collections::BTreeMap;

/// One object of a device: its properties, and who commands it at which priority.
#[derive(Debug, Clone)]
pub struct Object {
    identifier: ObjectIdentifier,
    properties: BTreeMap<PropertyIdentifier, Property>,
    /// Where it can be commanded.
    priorities: Option<Box<[Option<Value>; 16]>>,
    pub(super) log: Option<TrendLog>,
    /// Properties that others may write, beside those of which the standard says so.
    writable: Vec<PropertyIdentifier>,
}

/// What a property holds.
#[derive(Debug, Clone)]
enum Property {
    One(Content),
    Array(Vec<Content>),
}

/// Status flags, in their order.
const OUT_OF_SERVICE: usize = 3;
const ALL: PropertyIdentifier = PropertyIdentifier::ALL;
const REQUIRED: PropertyIdentifier = PropertyIdentifier(105);
const OPTIONAL: PropertyIdentifier = PropertyIdentifier(80);
const PROPERTY_LIST: PropertyIdentifier = PropertyIdentifier(371);

impl Object {
    /// An object with a name and nothing else.
    #[must_use]
    pub fn new(identifier: ObjectIdentifier, name: &str) -> Self {
        let object =
            Self { identifier, properties: BTreeMap::new(), priorities: None, log: None, writable: Vec::new() };
        object
            .with(PropertyIdentifier::OBJECT_IDENTIFIER, identifier)
            .with(PropertyIdentifier::OBJECT_NAME, name)
            .with(PropertyIdentifier::OBJECT_TYPE, Value::Enumerated(identifier.object_type().number().into()))
    }

    /// One with a present value, and with what stands beside it in all of its kind. Outputs can be commanded.
    #[must_use]
    pub fn valued(identifier: ObjectIdentifier, name: &str, present_value: impl Into<Value>) -> Self {
        let present_value = present_value.into();
        let object = Self::new(identifier, name)
            .with(PropertyIdentifier::PRESENT_VALUE, present_value.clone())
            .with(PropertyIdentifier::STATUS_FLAGS, BitString::of(&[false; 4]))
            .with(PropertyIdentifier::EVENT_STATE, Value::Enumerated(0))
            .with(PropertyIdentifier::RELIABILITY, Value::Enumerated(0))
            .with(PropertyIdentifier::OUT_OF_SERVICE, false);
        if identifier.object_type().is_output() { object.commandable(present_value) } else { object }
    }

    /// The same, where it can be commanded, and has a value when nobody does.
    #[must_use]
    pub fn commandable(mut self, relinquish_default: Value) -> Self {
        self.priorities = Some(Box::default());
        self.with(PropertyIdentifier::RELINQUISH_DEFAULT, relinquish_default)
    }

    /// The same with a property of one value.
    #[must_use]
    pub fn with(mut self, property: PropertyIdentifier, value: impl Into<Value>) -> Self {
        self.set(property, value);
        self
    }

    /// The same with a property of several values, which are elements.
    #[must_use]
    pub fn with_array(mut self, property: PropertyIdentifier, elements: impl IntoIterator<Item = Value>) -> Self {
        let elements = elements.into_iter().map(|element| Content::of(&[element])).collect();
        self.properties.insert(property, Property::Array(elements));
        self
    }

    /// The same with a property of whatever content.
    #[must_use]
    pub fn with_content(mut self, property: PropertyIdentifier, content: Content) -> Self {
        self.properties.insert(property, Property::One(content));
        self
    }

    /// The same without a property.
    #[must_use]
    pub fn without(mut self, property: PropertyIdentifier) -> Self {
        self.properties.remove(&property);
        self
    }

    /// The same with a property that others may write.
    #[must_use]
    pub fn writable(mut self, property: PropertyIdentifier) -> Self {
        self.writable.push(property);
        self
    }

    /// The same with records.
    #[must_use]
    pub fn with_log(mut self, log: TrendLog) -> Self {
        self.log = Some(log);
        self
    }

    /// What it is called by the protocol.
    #[must_use]
    pub const fn identifier(&self) -> ObjectIdentifier {
        self.identifier
    }

    /// Its records, where it is a log.
    #[must_use]
    pub const fn log_mut(&mut self) -> Option<&mut TrendLog> {
        self.log.as_mut()
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> String {
        match self.value(PropertyIdentifier::OBJECT_NAME) {
            Some(Value::CharacterString(name)) => name,
            _ => String::new(),
        }
    }

    /// A property of one value.
    #[must_use]
    pub fn value(&self, property: PropertyIdentifier) -> Option<Value> {
        if property == PropertyIdentifier::PRESENT_VALUE
            && let Some(commanded) = self.commanded()
        {
            return Some(commanded);
        }
        match self.properties.get(&property)? {
            Property::One(content) => content.one(),
            Property::Array(_) => None,
        }
    }

    /// What holds the present value: what is commanded at the highest priority, else what is there when nobody commands.
    fn commanded(&self) -> Option<Value> {
        let priorities = self.priorities.as_ref()?;
        // Whoever takes it out of service writes the value itself.
        let commanded = priorities.iter().find_map(Option::clone);
        commanded.or_else(|| match self.properties.get(&PropertyIdentifier::RELINQUISH_DEFAULT)? {
            Property::One(content) => content.one(),
            Property::Array(_) => None,
        })
    }

    /// Sets a property of one value, whoever may write it.
    pub fn set(&mut self, property: PropertyIdentifier, value: impl Into<Value>) {
        self.properties.insert(property, Property::One(Content::of(&[value.into()])));
    }

    /// Sets one of the status flags: 0 in-alarm, 1 fault, 2 overridden, 3 out-of-service.
    pub fn set_flag(&mut self, at: usize, is_set: bool) {
        let Some(Value::BitString(flags)) = self.value(PropertyIdentifier::STATUS_FLAGS) else { return };
        let flags: Vec<bool> = flags.bits().enumerate().map(|(n, bit)| if n == at { is_set } else { bit }).collect();
        self.set(PropertyIdentifier::STATUS_FLAGS, BitString::of(&flags));
    }

    /// Somebody at the device commands it at a priority, 1 to 16, or gives it back.
    pub fn command(&mut self, priority: u8, value: Option<Value>) {
        let slot = usize::from(priority).checked_sub(1);
        let slots = self.priorities.as_mut().zip(slot);
        if let Some(slot) = slots.and_then(|(priorities, slot)| priorities.get_mut(slot)) {
            *slot = value;
        }
    }

    /// Which properties a word for several stands for; the property itself where it is one.
    pub(super) fn meant(&self, property: PropertyIdentifier) -> Vec<PropertyIdentifier> {
        let always = [
            PropertyIdentifier::OBJECT_IDENTIFIER,
            PropertyIdentifier::OBJECT_NAME,
            PropertyIdentifier::OBJECT_TYPE,
            PropertyIdentifier::PRESENT_VALUE,
            PropertyIdentifier::STATUS_FLAGS,
            PropertyIdentifier::EVENT_STATE,
            PropertyIdentifier::OUT_OF_SERVICE,
            PropertyIdentifier::UNITS,
        ];
        let is_meant = |known: &PropertyIdentifier| match property {
            REQUIRED => always.contains(known),
            OPTIONAL => !always.contains(known),
            _ => true,
        };
        match property {
            ALL | REQUIRED | OPTIONAL => self.listed().filter(is_meant).collect(),
            one => vec![one],
        }
    }

    fn listed(&self) -> impl Iterator<Item = PropertyIdentifier> + '_ {
        let commanded = self.priorities.iter().map(|_| PropertyIdentifier::PRIORITY_ARRAY);
        self.properties.keys().copied().chain(commanded)
    }

    /// What a property holds, or one element of it.
    ///
    /// # Errors
    /// [`Error`], where there is nothing to read.
    pub fn read(&self, reference: &PropertyReference) -> Result<Content, Error> {
        let array = |elements: &[Content], index: Option<u32>| match index {
            None => Ok(Content::joined(elements)),
            Some(0) => Ok(Content::of(&[Value::Unsigned(u64::try_from(elements.len()).unwrap_or_default())])),
            Some(index) => {
                let at = usize::try_from(index - 1).unwrap_or(usize::MAX);
                elements.get(at).cloned().ok_or(Error::INVALID_ARRAY_INDEX)
            }
        };
        match (reference.property, &self.priorities) {
            (PropertyIdentifier::PRIORITY_ARRAY, Some(priorities)) => {
                let slots = priorities.iter().map(|slot| Content::of(&[slot.clone().unwrap_or(Value::Null)]));
                return array(&slots.collect::<Vec<_>>(), reference.index);
            }
            (PROPERTY_LIST, _) => {
                let listed = self.listed().map(|property| Content::of(&[Value::Enumerated(property.0)]));
                return array(&listed.collect::<Vec<_>>(), reference.index);
            }
            _ => {}
        }
        if reference.property == PropertyIdentifier::PRESENT_VALUE
            && let Some(commanded) = self.commanded()
        {
            return if reference.index.is_some() { Err(Error::NOT_AN_ARRAY) } else { Ok(Content::of(&[commanded])) };
        }
        match self.properties.get(&reference.property).ok_or(Error::UNKNOWN_PROPERTY)? {
            Property::One(_) if reference.index.is_some() => Err(Error::NOT_AN_ARRAY),
            Property::One(content) => Ok(content.clone()),
            Property::Array(elements) => array(elements, reference.index),
        }
    }

    /// Whether something of it may be taken for a present value.
    fn check(&self, value: &Value) -> Result<(), Error> {
        let same = |one: &Value, other: &Value| std::mem::discriminant(one) == std::mem::discriminant(other);
        let now = self.value(PropertyIdentifier::PRESENT_VALUE).ok_or(Error::UNKNOWN_PROPERTY)?;
        if !same(&now, value) {
            return Err(Error::INVALID_DATA_TYPE);
        }
        let Some(number) = value.as_f64() else { return Ok(()) };
        let limit = |property| self.value(property).and_then(|limit| limit.as_f64());
        let object_type = self.identifier.object_type();
        let (low, high) = if object_type.is_multi_state() {
            (Some(1.0), limit(PropertyIdentifier::NUMBER_OF_STATES))
        } else if object_type.is_binary() {
            (Some(0.0), Some(1.0))
        } else {
            (limit(PropertyIdentifier::MIN_PRES_VALUE), limit(PropertyIdentifier::MAX_PRES_VALUE))
        };
        let is_within = low.is_none_or(|low| number >= low) && high.is_none_or(|high| number <= high);
        if is_within && number.is_finite() { Ok(()) } else { Err(Error::VALUE_OUT_OF_RANGE) }
    }

    /// Somebody else writes a property.
    ///
    /// # Errors
    /// [`Error`], where it is not to be written, or not so.
    pub fn write(
        &mut self,
        reference: &PropertyReference,
        content: &Content,
        priority: Option<Priority>,
    ) -> Result<(), Error> {
        let property = reference.property;
        let Some(value) = content.one() else { return self.write_elements(reference, content) };
        match (property, &mut self.priorities) {
            (PropertyIdentifier::PRESENT_VALUE, Some(_)) => {
                let priority = priority.unwrap_or(Priority::LOWEST);
                if priority == Priority::MINIMUM_ON_OFF {
                    return Err(Error::WRITE_ACCESS_DENIED);
                }
                if value != Value::Null {
                    self.check(&value)?;
                }
                let slot = usize::from(priority.number()) - 1;
                if let Some(slot) = self.priorities.as_mut().and_then(|priorities| priorities.get_mut(slot)) {
                    *slot = Some(value).filter(|value| *value != Value::Null);
                }
                Ok(())
            }
            (PropertyIdentifier::PRESENT_VALUE, None) => {
                let is_out = self.value(PropertyIdentifier::OUT_OF_SERVICE) == Some(Value::Boolean(true));
                if !is_out && !self.writable.contains(&property) {
                    return Err(Error::WRITE_ACCESS_DENIED);
                }
                self.check(&value)?;
                self.set(property, value);
                Ok(())
            }
            (PropertyIdentifier::OUT_OF_SERVICE, _) => {
                let Value::Boolean(is_out) = value else { return Err(Error::INVALID_DATA_TYPE) };
                self.set(property, value);
                self.set_flag(OUT_OF_SERVICE, is_out);
                Ok(())
            }
            _ => self.write_elements(reference, content),
        }
    }

    fn write_elements(&mut self, reference: &PropertyReference, content: &Content) -> Result<(), Error> {
        let is_writable = self.writable.contains(&reference.property);
        let held = self.properties.get_mut(&reference.property).ok_or(Error::UNKNOWN_PROPERTY)?;
        if !is_writable {
            return Err(Error::WRITE_ACCESS_DENIED);
        }
        match (held, reference.index) {
            (Property::One(held), None) => *held = content.clone(),
            (Property::One(_), Some(_)) => return Err(Error::NOT_AN_ARRAY),
            (Property::Array(elements), Some(index @ 1..)) => {
                let at = usize::try_from(index - 1).unwrap_or(usize::MAX);
                *elements.get_mut(at).ok_or(Error::INVALID_ARRAY_INDEX)? = content.clone();
            }
            (Property::Array(_), _) => return Err(Error::INVALID_ARRAY_INDEX),
        }
        Ok(())
    }

    /// Whether changes of it can be told: it has a present value with flags.
    pub(super) fn tells_changes(&self) -> bool {
        let has = |property| self.properties.contains_key(&property);
        has(PropertyIdentifier::PRESENT_VALUE) && has(PropertyIdentifier::STATUS_FLAGS)
    }

    /// Whether it is of a type whose outputs always have a priority array.
    #[must_use]
    pub fn is_of(&self, object_type: ObjectType) -> bool {
        self.identifier.object_type() == object_type
    }
}
