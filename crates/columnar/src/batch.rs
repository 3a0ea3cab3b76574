//! Record batches, row by row, through a mapping.

use arrow_array::{
    Array, ArrayRef, BooleanArray, FixedSizeBinaryArray, GenericBinaryArray, LargeStringArray, OffsetSizeTrait, PrimitiveArray, RecordBatch,
    StringArray, StringViewArray,
    cast::AsArray,
    types::{
        ArrowDictionaryKeyType, Date32Type, Date64Type, Decimal128Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type, Int64Type,
        TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType, TimestampSecondType, UInt8Type, UInt16Type, UInt32Type,
        UInt64Type,
    },
};
use hashbrown::HashMap;

use arrow_schema::{DataType, Field, Schema, TimeUnit};
use fenetre_core::{model::KnownSeries, time::Nanos};
use fenetre_formats::{
    FormatError, Look, Output, Tally,
    mapping::{Cell, Column as NamedColumn, Mapping, Others, Role, Rows, is_long, long_column},
};

/// Record batches of one schema.
pub struct Batches {
    rows: Rows,
    /// Of the next row, from 1.
    row: u64,
    is_described: bool,
    /// Columns of 16 bytes that are UUIDs.
    uuids: Vec<bool>,
    /// What a reader should know of the columns.
    notes: Vec<String>,
}

impl Batches {
    /// Resolves a mapping against a schema. If the mapping names no columns, their types decide: texts are tags, numbers and truth values are values.
    /// `uuids` are columns that the file calls so.
    ///
    /// # Errors
    /// [`FormatError::Table`] if the mapping does not fit, or times without an offset have no zone.
    pub fn new(schema: &Schema, mapping: Option<&Mapping>, uuids: &[&str]) -> Result<Self, FormatError> {
        let names: Vec<&str> = schema.fields().iter().map(|field| field.name().as_str()).collect();
        let uuids: Vec<bool> = schema.fields().iter().map(|field| is_uuid(field, uuids)).collect();
        let stated = mapping.cloned().unwrap_or_default();
        let (mapping, mut notes) =
            if stated.columns.is_empty() && stated.others == Others::Skip { mapping_of(schema, &uuids, &stated) } else { (stated, Vec::new()) };
        notes.extend(local_times(schema, &mapping)?);
        Ok(Self { rows: Rows::new(&mapping, &names)?, row: 1, is_described: false, uuids, notes })
    }

    /// Reads a batch; lines of rejects are rows, from 1.
    pub fn read(&mut self, batch: &RecordBatch, out: &mut Output<'_>) {
        if !std::mem::replace(&mut self.is_described, true) {
            self.notes.drain(..).for_each(|note| out.tally.note(note));
            self.rows.describe(out.sink, out.tally);
        }
        let columns: Vec<Column<'_>> = batch.columns().iter().zip(&self.uuids).map(|(array, is_uuid)| Column::of(array, *is_uuid)).collect();
        let mut tags = Vec::new();
        let (places, values) = self.rows.key_places();
        let distinct_keys = || keys(&places.iter().map(|place| &columns[*place]).collect::<Vec<_>>(), batch.num_rows());
        let keys = if self.rows.has_units() { None } else { distinct_keys() };
        // Of each set of tags the series of its values, so that only its first row names them.
        let mut known: HashMap<u64, Vec<Option<KnownSeries>>> = HashMap::new();
        for at in 0..batch.num_rows() {
            let row = self.row + at as u64;
            let cell = |place: usize| columns[place].cell(at);
            match &keys {
                Some(keys) => {
                    let known = known.entry(keys[at]).or_insert_with(|| vec![None; values]);
                    self.rows.take_known(&cell, &mut tags, known, &mut || row, out);
                }
                None => self.rows.take(&cell, &mut tags, &mut || row, out),
            }
        }
        self.row += batch.num_rows() as u64;
    }

    /// Tells what there is to tell when no batch follows.
    pub fn end(&self, now: Nanos, tally: &mut Tally) {
        self.rows.note_now(now, tally);
    }
}

/// What a schema's types say, beside what was stated: the first instants are the time, texts and UUIDs are tags, numbers and truth values are values.
/// Notes which columns are nothing of these.
fn mapping_of(schema: &Schema, uuids: &[bool], stated: &Mapping) -> (Mapping, Vec<String>) {
    let names: Vec<&str> = schema.fields().iter().map(|field| field.name().as_str()).collect();
    let is_long_table = is_long(&names);
    let (mut mapping, mut notes) = (Mapping::default(), Vec::new());
    mapping.time.column.clone_from(&stated.time.column);
    for (field, is_uuid) in schema.fields().iter().zip(uuids) {
        let name = field.name();
        let is_time = stated.time.column.as_ref() == Some(name) || stated.time.time_of_day.as_ref() == Some(name);
        if is_time {
            continue;
        }
        let long = long_column(name);
        let role = match field.data_type() {
            DataType::Timestamp(..) | DataType::Date32 | DataType::Date64 => {
                match &mapping.time.column {
                    None if !(is_long_table && long.role == Role::Skip) => mapping.time.column = Some(name.clone()),
                    _ if is_long_table && long.role == Role::Skip => {}
                    time => notes.push(format!("column `{name}` holds times and is not read: {}", beside(time.as_deref()))),
                }
                continue;
            }
            _ if is_long_table && long.role != Role::Tag => long.role,
            DataType::Dictionary(_, values) if is_text(values) => Role::Tag,
            text if is_text(text) => Role::Tag,
            DataType::FixedSizeBinary(16) if *is_uuid => Role::Tag,
            DataType::Boolean => Role::State,
            // In a long table, numbers beside the value tell series apart.
            number if number.is_numeric() => {
                if is_long_table {
                    Role::Tag
                } else {
                    Role::Value
                }
            }
            DataType::Null => continue,
            other => {
                notes.push(unread(name, what_is_unusable(other).unwrap_or("of a type that is no part of a point")));
                Role::Skip
            }
        };
        mapping
            .columns
            .push(NamedColumn { role, ..if is_long_table { long } else { NamedColumn { column: name.clone(), ..NamedColumn::default() } } });
    }
    // A column called `time` is the time whatever its type.
    if mapping.time.column.is_none() {
        mapping.columns.retain(|column| column.column != "time");
    }
    mapping.merge(stated.clone());
    (mapping, notes)
}

fn beside(time: Option<&str>) -> String {
    time.map_or_else(|| "it is no part of a point".to_owned(), |time| format!("the time is `{time}`"))
}

fn unread(name: &str, what: &str) -> String {
    format!("column `{name}` is {what}, which is not read")
}

/// What a type is that no part of a point can be, in words.
fn what_is_unusable(kind: &DataType) -> Option<&'static str> {
    Some(match kind {
        DataType::List(_) | DataType::LargeList(_) | DataType::FixedSizeList(..) | DataType::ListView(_) | DataType::LargeListView(_) => "a list",
        DataType::Struct(_) => "a structure of several fields",
        DataType::Map(..) => "a map",
        DataType::Union(..) => "a union of types",
        DataType::Time32(_) | DataType::Time64(_) => "a time of the day",
        DataType::Interval(_) | DataType::Duration(_) => "a span of time",
        DataType::Decimal256(..) => "a decimal of 256 bits",
        DataType::FixedSizeBinary(_) | DataType::BinaryView => "bytes",
        _ => return None,
    })
}

/// Times without an offset need a zone; notes in which they are read.
fn local_times(schema: &Schema, mapping: &Mapping) -> Result<Option<String>, FormatError> {
    let name = mapping.time.column.as_deref().unwrap_or("time");
    let Ok(field) = schema.field_with_name(name) else { return Ok(None) };
    if !matches!(field.data_type(), DataType::Timestamp(_, None) | DataType::Date32 | DataType::Date64) {
        return Ok(None);
    }
    match &mapping.time.zone {
        Some(zone) => Ok(Some(format!("times in `{name}` have no offset, so they are read as {zone}"))),
        None => Err(FormatError::Table(format!(
            "times in `{name}` have no offset from UTC: state their zone with zone=ZONE, such as UTC or Europe/Lisbon"
        ))),
    }
}

fn is_text(kind: &DataType) -> bool {
    matches!(kind, DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View)
}

/// A number for each row that is the same for rows with the same cells in some columns; none where the columns have no such numbers.
fn keys(columns: &[&Column<'_>], rows: usize) -> Option<Vec<u64>> {
    let mut keys = vec![0u64; rows];
    let mut radix = 1u64;
    for column in columns {
        let (codes, distinct) = column.codes(rows)?;
        for (key, code) in keys.iter_mut().zip(&codes) {
            *key += radix * u64::from(*code);
        }
        radix = radix.checked_mul(u64::from(distinct))?;
    }
    Some(keys)
}

/// A column by what its cells are.
enum Column<'b> {
    Text(&'b StringArray),
    LargeText(&'b LargeStringArray),
    TextView(&'b StringViewArray),
    /// Codes of texts, and the texts.
    Dictionary(Vec<Option<usize>>, Box<Self>),
    Number(&'b ArrayRef, Vec<f64>),
    Integer(&'b ArrayRef, Vec<i128>),
    Time(&'b ArrayRef, Vec<Option<Nanos>>),
    /// Times without an offset, by the clock of some zone.
    LocalTime(&'b ArrayRef, Vec<Option<Nanos>>),
    /// UUIDs in their usual form.
    Owned(&'b ArrayRef, Vec<String>),
    Truth(&'b BooleanArray),
    Bytes(&'b dyn Array),
    Unusable(&'b ArrayRef),
}

impl<'b> Column<'b> {
    fn of(array: &'b ArrayRef, is_uuid: bool) -> Self {
        match array.data_type() {
            DataType::FixedSizeBinary(16) if is_uuid => Self::Owned(array, uuids(array.as_fixed_size_binary())),
            DataType::Utf8 => Self::Text(array.as_string()),
            DataType::LargeUtf8 => Self::LargeText(array.as_string()),
            DataType::Utf8View => Self::TextView(array.as_string_view()),
            DataType::Boolean => Self::Truth(array.as_boolean()),
            DataType::Float64 => Self::Number(array, array.as_primitive::<Float64Type>().values().to_vec()),
            // The number that was meant is the shortest that reads as this float.
            DataType::Float32 => Self::Number(
                array,
                array.as_primitive::<Float32Type>().values().iter().map(|number| number.to_string().parse().unwrap_or(f64::from(*number))).collect(),
            ),
            DataType::Int8 => integers(array, array.as_primitive::<Int8Type>()),
            DataType::Int16 => integers(array, array.as_primitive::<Int16Type>()),
            DataType::Int32 => integers(array, array.as_primitive::<Int32Type>()),
            DataType::Int64 => integers(array, array.as_primitive::<Int64Type>()),
            DataType::UInt8 => integers(array, array.as_primitive::<UInt8Type>()),
            DataType::UInt16 => integers(array, array.as_primitive::<UInt16Type>()),
            DataType::UInt32 => integers(array, array.as_primitive::<UInt32Type>()),
            DataType::UInt64 => integers(array, array.as_primitive::<UInt64Type>()),
            DataType::Decimal128(_, scale) => {
                let scale = i32::from(*scale);
                let number = |unscaled: &i128| format!("{unscaled}e{}", -scale).parse().unwrap_or(f64::NAN);
                Self::Number(array, array.as_primitive::<Decimal128Type>().values().iter().map(number).collect())
            }
            DataType::Timestamp(unit, zone) => {
                let times = match unit {
                    TimeUnit::Second => times(array.as_primitive::<TimestampSecondType>().values(), 1_000_000_000),
                    TimeUnit::Millisecond => times(array.as_primitive::<TimestampMillisecondType>().values(), 1_000_000),
                    TimeUnit::Microsecond => times(array.as_primitive::<TimestampMicrosecondType>().values(), 1_000),
                    TimeUnit::Nanosecond => times(array.as_primitive::<TimestampNanosecondType>().values(), 1),
                };
                if zone.is_some() { Self::Time(array, times) } else { Self::LocalTime(array, times) }
            }
            DataType::Date64 => Self::LocalTime(array, times(array.as_primitive::<Date64Type>().values(), 1_000_000)),
            DataType::Date32 => {
                let days: Vec<i64> = array.as_primitive::<Date32Type>().values().iter().map(|day| i64::from(*day)).collect();
                Self::LocalTime(array, times(&days, 86_400 * 1_000_000_000))
            }
            DataType::Dictionary(key, values) if is_text(values) => match &**key {
                DataType::Int8 => dictionary::<Int8Type>(array),
                DataType::Int16 => dictionary::<Int16Type>(array),
                DataType::Int32 => dictionary::<Int32Type>(array),
                DataType::Int64 => dictionary::<Int64Type>(array),
                DataType::UInt8 => dictionary::<UInt8Type>(array),
                DataType::UInt16 => dictionary::<UInt16Type>(array),
                DataType::UInt32 => dictionary::<UInt32Type>(array),
                DataType::UInt64 => dictionary::<UInt64Type>(array),
                _ => Self::Unusable(array),
            },
            DataType::Binary => Self::Bytes(array.as_binary::<i32>()),
            DataType::LargeBinary => Self::Bytes(array.as_binary::<i64>()),
            _ => Self::Unusable(array),
        }
    }

    /// A small number for each cell, the same for the same text, and how many there may be.
    fn codes(&self, rows: usize) -> Option<(Vec<u32>, u32)> {
        match self {
            Self::Dictionary(codes, texts) => {
                // A dictionary may hold a text twice; that only makes two numbers of one series.
                let none = u32::try_from(texts.len()?).ok()?;
                let code = |code: &Option<usize>| code.map_or(none, |code| code as u32);
                Some((codes.iter().map(code).collect(), none.checked_add(1)?))
            }
            Self::Text(_) | Self::LargeText(_) | Self::TextView(_) => {
                let mut numbers: HashMap<&str, u32> = HashMap::new();
                let code = |at: usize| {
                    let next = numbers.len() as u32;
                    *numbers.entry(self.cell(at).text().unwrap_or_default()).or_insert(next)
                };
                let codes = (0..rows).map(code).collect();
                Some((codes, u32::try_from(numbers.len().max(1)).ok()?))
            }
            _ => None,
        }
    }

    /// How many cells a column of texts has.
    fn len(&self) -> Option<usize> {
        match self {
            Self::Text(array) => Some(array.len()),
            Self::LargeText(array) => Some(array.len()),
            Self::TextView(array) => Some(array.len()),
            _ => None,
        }
    }

    fn cell(&self, at: usize) -> Cell<'_> {
        let text = |text: Option<&'b str>| text.map_or(Cell::Empty, |text| Cell::Text(text.trim()));
        let is_there = |array: &dyn Array| array.is_valid(at);
        match self {
            Self::Text(array) => text(is_there(array).then(|| array.value(at))),
            Self::LargeText(array) => text(is_there(array).then(|| array.value(at))),
            Self::TextView(array) => text(is_there(array).then(|| array.value(at))),
            Self::Dictionary(codes, texts) => codes[at].map_or(Cell::Empty, |code| texts.cell(code)),
            Self::Number(array, numbers) if is_there(array) => Cell::Number(numbers[at]),
            Self::Integer(array, integers) if is_there(array) => Cell::Integer(integers[at]),
            Self::Time(array, times) if is_there(array) => times[at].map_or(OUT_OF_RANGE, Cell::Time),
            Self::LocalTime(array, times) if is_there(array) => times[at].map_or(OUT_OF_RANGE, Cell::LocalTime),
            Self::Owned(array, texts) if is_there(array) => Cell::Text(&texts[at]),
            Self::Truth(array) if is_there(array) => Cell::Bool(array.value(at)),
            Self::Bytes(array) if is_there(*array) => bytes(*array, at),
            Self::Unusable(array) if is_there(array) => Cell::Unusable("of a type that is neither number, text, truth value nor time"),
            _ => Cell::Empty,
        }
    }
}

/// Bytes that are a text: writers without a type for texts write them so.
fn bytes(array: &dyn Array, at: usize) -> Cell<'_> {
    fn of<O: OffsetSizeTrait>(array: &GenericBinaryArray<O>, at: usize) -> Cell<'_> {
        std::str::from_utf8(array.value(at)).map_or(Cell::Unusable("bytes that are no text"), |text| Cell::Text(text.trim()))
    }
    match (array.as_any().downcast_ref::<GenericBinaryArray<i32>>(), array.as_any().downcast_ref::<GenericBinaryArray<i64>>()) {
        (Some(array), _) => of(array, at),
        (_, Some(array)) => of(array, at),
        _ => Cell::Unusable("bytes"),
    }
}

fn integers<'b, T: arrow_array::ArrowPrimitiveType>(array: &'b ArrayRef, typed: &PrimitiveArray<T>) -> Column<'b>
where
    T::Native: Into<i128>,
{
    Column::Integer(array, typed.values().iter().map(|integer| (*integer).into()).collect())
}

const OUT_OF_RANGE: Cell<'static> = Cell::Unusable("a time outside the years 1677 to 2262");

fn times(values: &[i64], unit: i64) -> Vec<Option<Nanos>> {
    values.iter().map(|value| value.checked_mul(unit)).collect()
}

/// UUIDs in the form of RFC 9562, section 4; nothing of a row that has none.
fn uuids(array: &FixedSizeBinaryArray) -> Vec<String> {
    let text = |bytes: &[u8]| {
        let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
    };
    array.iter().map(|bytes| bytes.map_or(String::new(), text)).collect()
}

fn is_uuid(field: &Field, uuids: &[&str]) -> bool {
    let by_type = field.metadata().get("ARROW:extension:name").is_some_and(|name| name == "arrow.uuid");
    *field.data_type() == DataType::FixedSizeBinary(16) && (by_type || uuids.contains(&field.name().as_str()))
}

fn dictionary<K: ArrowDictionaryKeyType>(array: &ArrayRef) -> Column<'_> {
    let typed = array.as_dictionary::<K>();
    let codes = (0..typed.len()).map(|at| typed.key(at)).collect();
    Column::Dictionary(codes, Box::new(Column::of(typed.values(), false)))
}

/// The first rows of some batches as texts.
pub fn look(schema: &Schema, uuids: &[&str], batches: impl Iterator<Item = RecordBatch>, most: usize) -> Look {
    let names = schema.fields().iter().map(|field| field.name().clone()).collect();
    let uuids: Vec<bool> = schema.fields().iter().map(|field| is_uuid(field, uuids)).collect();
    let unread = schema.fields().iter().filter_map(|field| Some(unread(field.name(), what_is_unusable(field.data_type())?)));
    let mut rows = Vec::new();
    for batch in batches {
        let columns: Vec<Column<'_>> = batch.columns().iter().zip(&uuids).map(|(array, is_uuid)| Column::of(array, *is_uuid)).collect();
        for at in 0..batch.num_rows().min(most - rows.len()) {
            rows.push(columns.iter().map(|column| column.cell(at).to_text().unwrap_or_default()).collect());
        }
        if rows.len() >= most {
            break;
        }
    }
    Look { names, rows, notes: unread.collect(), ..Look::default() }
}
