//! Repairs a store that does not start or has damaged files. It plans first, and carries out the plan on request.
//!
//! Nothing is deleted: a file that is replaced or taken out is moved to the folder `damaged` of the store.

pub mod salvage;

use std::{
    collections::{BTreeMap, BTreeSet, HashSet},
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::{catalogue::FIRST_PART, time::Nanos};

use crate::{
    backup::{Backup, CATALOGUE},
    catalogue::records::{FORMAT, Records},
    disk::{
        files::{Files, companion, is_filled, move_database, remove_database, sync_folder},
        sqlite,
    },
    error::{Context, StoreError},
    journal,
    levels::records_of,
    missing::inventory::{ExistingPartition, Loss},
    partition::origin::{Highest, Origin, origin_of},
    repair::salvage::{Salvaged, damaged_block, salvage},
    startup::identity::partition_files,
};

/// What is wrong with a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Finding {
    /// It is missing or empty.
    Missing,
    /// It cannot be read, or differs from what was written: the reason.
    Damaged(String),
    /// It belongs to another store.
    Foreign,
    /// A catalogue that lacks series of the points.
    Older {
        /// The highest id of a series in the points.
        found: u32,
        /// The highest id in the catalogue.
        known: u32,
    },
}

/// What a repair does about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Remedy {
    /// Use the catalogue of a backup. Points of later series have no names, and are not used.
    TakeCatalogue {
        /// Series without names.
        unnamed: u64,
    },
    /// Keep the catalogue, and do not use the ids of unknown series again. Their points are not used.
    KeepCatalogue {
        /// Series without names.
        unnamed: u64,
    },
    /// Use the file of a backup.
    TakeFile,
    /// Write the readable blocks into a new file, together with those of a backup if it has the file.
    Salvage {
        /// Whether the backup has it.
        has_backup: bool,
    },
    /// Take it out: its windows are rebuilt from points. Windows whose points have expired are lost.
    MakeAgain,
    /// Take it out of the store.
    TakeOut,
    /// Impossible without a backup.
    NeedsBackup,
    /// None: start the service and accept the loss there.
    AcceptLoss,
}

/// One file, its fault and its remedy.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RepairStep {
    /// Its path below the store's directory.
    pub file: String,
    /// What is wrong with it.
    pub finding: Finding,
    /// The remedy.
    pub remedy: Remedy,
}

/// The faults of a store and their remedies.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RepairPlan {
    /// Number of checked files.
    pub checked: u64,
    /// Steps, in the order in which they are carried out.
    pub steps: Vec<RepairStep>,
}

/// Checks all files of a stopped store and plans a repair, with the help of a backup if one is given.
///
/// # Errors
/// If the store is in use, there is none, or the backup cannot be used.
pub fn plan_repair(root: &Path, from: Option<&Path>) -> Result<RepairPlan, StoreError> {
    let site = Site::open(root, from)?;
    let _lock = site.files.lock()?;
    site.plan()
}

/// Carries out a plan. Calls `done` after each step, with what was saved of a damaged partition.
///
/// # Errors
/// If the store is in use, or files fail. What was done until then stays.
pub fn repair(
    root: &Path,
    from: Option<&Path>,
    plan: &RepairPlan,
    now: Nanos,
    done: &mut dyn FnMut(&RepairStep, Option<Salvaged>),
) -> Result<(), StoreError> {
    let site = Site::open(root, from)?;
    let _lock = site.files.lock()?;
    let aside = root.join("damaged").join((now / 1_000_000_000).to_string());
    for step in &plan.steps {
        let salvaged = site.carry_out(step, &aside)?;
        done(step, salvaged);
    }
    sync_folder(root)
}

struct Site {
    files: Files,
    backup: Option<Backup>,
}

/// Partitions with their origins; none if one cannot be read.
type Origins = BTreeMap<PathBuf, Option<Origin>>;

impl Site {
    fn open(root: &Path, from: Option<&Path>) -> Result<Self, StoreError> {
        if !root.is_dir() {
            return Err(StoreError::Missing(format!("there is no store at {}", root.display())));
        }
        Ok(Self { files: Files::create(root)?, backup: from.map(Backup::open).transpose()? })
    }

    fn in_backup(&self, name: &str) -> bool {
        self.backup.as_ref().is_some_and(|backup| backup.has(name))
    }

    fn file_of_backup(&self, name: &str) -> Result<PathBuf, StoreError> {
        self.backup.as_ref().ok_or_else(|| StoreError::Backup(format!("{name} needs a backup")))?.file(name)
    }

    fn origins(&self) -> Result<Origins, StoreError> {
        let filled = partition_files(&self.files)?.into_iter().filter(|path| is_filled(path));
        Ok(filled.map(|path| (path.clone(), origin_of(&path).ok())).collect())
    }

    /// The number of the store, if the catalogue or any partition has one.
    fn store(&self) -> Result<Option<i64>, StoreError> {
        let catalogue = self.files.catalogue();
        let of_catalogue = if is_filled(&catalogue) { Records::open(catalogue).and_then(|records| records.store()).ok() } else { None };
        match of_catalogue.filter(|store| *store != 0) {
            Some(store) => Ok(Some(store)),
            None => Ok(self.origins()?.values().flatten().find_map(|origin| origin.store)),
        }
    }

    fn plan(&self) -> Result<RepairPlan, StoreError> {
        let planned = self.plan_all();
        // A plan changes nothing: the copy of the backup's catalogue is removed.
        remove_database(&self.taken())?;
        planned
    }

    /// Path at which a copy of the backup's catalogue is checked, beside the store's own.
    fn taken(&self) -> PathBuf {
        companion(&self.files.catalogue(), ".taken")
    }

    fn plan_all(&self) -> Result<RepairPlan, StoreError> {
        let mut plan = RepairPlan::default();
        let origins = self.origins()?;
        let (catalogue, of_catalogue) = self.plan_catalogue(&origins)?;
        plan.checked += 1;
        let store = catalogue.as_ref().map_or(Ok(0), Records::store)?;
        for (path, origin) in &origins {
            let name = self.files.name_of(path);
            plan.checked += 1;
            if origin.is_some_and(|origin| store != 0 && origin.is_foreign(store)) {
                plan.steps.push(RepairStep { file: name, finding: Finding::Foreign, remedy: Remedy::TakeOut });
            } else if let Some(fault) = fault_of(path).or_else(|| damaged_block(path)) {
                let remedy = Remedy::Salvage { has_backup: self.in_backup(&name) };
                plan.steps.push(RepairStep { file: name, finding: Finding::Damaged(fault), remedy });
            }
        }
        if let Some(catalogue) = &catalogue {
            self.plan_missing(catalogue, &origins, &mut plan)?;
        }
        for (_, path) in journal::files(&self.files.journals())? {
            plan.checked += 1;
            if let Some(fault) = journal::fault_of(&path) {
                plan.steps.push(RepairStep { file: self.files.name_of(&path), finding: Finding::Damaged(fault), remedy: Remedy::TakeOut });
            }
        }
        self.plan_levels(&mut plan)?;
        // Foreign files come first, so that nothing is taken from them. The catalogue comes last, when the ids in damaged partitions can be read.
        plan.steps.sort_by_key(|step| step.finding != Finding::Foreign);
        plan.steps.extend(of_catalogue);
        Ok(plan)
    }

    /// The catalogue after the repair, if there is one, and the steps to get it.
    fn plan_catalogue(&self, origins: &Origins) -> Result<(Option<Records>, Option<RepairStep>), StoreError> {
        let step = |finding, remedy| Some(RepairStep { file: CATALOGUE.to_owned(), finding, remedy });
        let path = self.files.catalogue();
        let own = if !is_filled(&path) {
            Err(Finding::Missing)
        } else {
            match sound_catalogue(&path) {
                Ok(records) => Ok(records),
                Err(error @ (StoreError::Newer { .. } | StoreError::OlderFormat { .. })) => return Err(error),
                Err(error) => Err(Finding::Damaged(error.reason())),
            }
        };
        match own {
            Ok(records) => {
                let (known, own) = (records.highest()?, of_store(origins, records.store()?));
                let older = highest(&own).above(known).map(|(found, known)| Finding::Older { found, known });
                let older = older.and_then(|finding| step(finding, Remedy::KeepCatalogue { unnamed: unnamed(&own, known) }));
                Ok((Some(records), older))
            }
            // A store without points is a new one.
            Err(Finding::Missing) if origins.is_empty() && journal::files(&self.files.journals())?.is_empty() => Ok((None, None)),
            Err(finding) if self.in_backup(CATALOGUE) => {
                let taken = self.take_catalogue(origins)?;
                let unnamed = unnamed(&of_store(origins, taken.store()?), taken.highest()?);
                Ok((Some(taken), step(finding, Remedy::TakeCatalogue { unnamed })))
            }
            Err(finding) => Ok((None, step(finding, Remedy::NeedsBackup))),
        }
    }

    /// A copy of the backup's catalogue.
    fn take_catalogue(&self, origins: &Origins) -> Result<Records, StoreError> {
        let (source, copy) = (self.file_of_backup(CATALOGUE)?, self.taken());
        remove_database(&copy)?;
        fs::copy(&source, &copy).at("copy", &source)?;
        let records = sound_catalogue(&copy)?;
        let store = records.store()?;
        let others = origins.values().flatten().filter(|origin| origin.store.is_some());
        if store != 0 && others.clone().count() > 0 && others.clone().all(|origin| origin.is_foreign(store)) {
            return Err(StoreError::Backup("the backup is of another store: its catalogue does not describe these points".to_owned()));
        }
        Ok(records)
    }

    /// Partitions that the catalogue names and that are missing.
    fn plan_missing(&self, catalogue: &Records, origins: &Origins, plan: &mut RepairPlan) -> Result<(), StoreError> {
        let mut named: BTreeSet<String> = catalogue.documents::<ExistingPartition>()?.into_iter().map(|kept| kept.name).collect();
        named.extend(catalogue.documents::<Loss>()?.into_iter().map(|kept| kept.name));
        for name in named.into_iter().filter(|name| !origins.contains_key(&self.files.root().join(name))) {
            let remedy = if self.in_backup(&name) { Remedy::TakeFile } else { Remedy::AcceptLoss };
            plan.steps.push(RepairStep { file: name, finding: Finding::Missing, remedy });
        }
        Ok(())
    }

    fn plan_levels(&self, plan: &mut RepairPlan) -> Result<(), StoreError> {
        let root = self.files.root().join("rollup");
        if !root.exists() {
            return Ok(());
        }
        for entry in fs::read_dir(&root).at("read the folder", &root)? {
            let folder = entry.at("read the folder", &root)?.path();
            let mut files = Vec::new();
            databases_in(&folder, &mut files)?;
            for path in files {
                plan.checked += 1;
                // Damaged records of rollups are rebuilt when the service starts.
                let fault = fault_of(&path).filter(|_| path != records_of(&folder));
                let step = |fault| RepairStep { file: self.files.name_of(&path), finding: Finding::Damaged(fault), remedy: Remedy::MakeAgain };
                plan.steps.extend(fault.map(step));
            }
        }
        Ok(())
    }

    fn carry_out(&self, step: &RepairStep, aside: &Path) -> Result<Option<Salvaged>, StoreError> {
        let path = self.files.root().join(&step.file);
        match &step.remedy {
            Remedy::TakeCatalogue { .. } => {
                let origins = self.origins()?;
                settle(self.take_catalogue(&origins)?, &origins)?;
                self.put_aside(&path, &step.file, aside)?;
                move_database(&self.taken(), &path)?;
            }
            Remedy::KeepCatalogue { .. } => settle(Records::open(path.clone())?, &self.origins()?)?,
            Remedy::TakeFile => {
                let (source, part) = (self.file_of_backup(&step.file)?, companion(&path, ".part"));
                path.parent().map_or(Ok(()), |folder| fs::create_dir_all(folder).at("create the folder", folder))?;
                fs::copy(&source, &part).at("copy", &source)?;
                fs::File::open(&part).and_then(|file| file.sync_all()).at("sync", &part)?;
                self.put_aside(&path, &step.file, aside)?;
                fs::rename(&part, &path).at("rename to", &path)?;
            }
            Remedy::Salvage { has_backup } => {
                let more = if *has_backup { Some(self.file_of_backup(&step.file)?) } else { None };
                let made = companion(&path, ".salvaged");
                let salvaged = salvage(&path, more.as_deref(), &made, self.store()?)?;
                self.put_aside(&path, &step.file, aside)?;
                fs::rename(&made, &path).at("rename to", &path)?;
                remove_database(&made)?;
                path.parent().map_or(Ok(()), sync_folder)?;
                return Ok(Some(salvaged));
            }
            Remedy::MakeAgain | Remedy::TakeOut => self.put_aside(&path, &step.file, aside)?,
            Remedy::NeedsBackup | Remedy::AcceptLoss => {}
        }
        path.parent().filter(|folder| folder.exists()).map_or(Ok(()), sync_folder)?;
        Ok(None)
    }

    /// Moves a database out of the store.
    fn put_aside(&self, path: &Path, name: &str, aside: &Path) -> Result<(), StoreError> {
        let to = aside.join(name);
        to.parent().map_or(Ok(()), |folder| fs::create_dir_all(folder).at("create the folder", folder))?;
        move_database(path, &to)
    }
}

/// Opens a catalogue whose records can all be read, and whose indexes agree with its tables. One of an earlier format is not brought up to date here.
fn sound_catalogue(path: &Path) -> Result<Records, StoreError> {
    let format = sqlite::open_to_read(path).and_then(|file| file.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0)));
    let format = format.at("read", path)?;
    if format < FORMAT {
        return Err(StoreError::OlderFormat { path: path.to_owned(), found: format, known: FORMAT });
    }
    let records = Records::open(path.to_owned())?;
    records.load()?;
    match records.check_integrity()?.into_iter().next() {
        Some(what) => Err(StoreError::Damaged { path: path.to_owned(), what }),
        None => Ok(records),
    }
}

/// Adapts a catalogue to newer files, so that it does not reuse their ids and generations.
fn settle(mut records: Records, origins: &Origins) -> Result<(), StoreError> {
    let mut generation = records.generation()?;
    for path in origins.keys() {
        let packed = sqlite::open_to_read(path).and_then(|file| file.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0)));
        generation = generation.max(packed.unwrap_or(0).unsigned_abs());
    }
    let stamped = origins.values().flatten().find_map(|origin| origin.store);
    let has_number = records.store()? != 0;
    records.change(|changes| {
        changes.set_highest(highest(origins))?;
        changes.set_generation(generation)?;
        stamped.filter(|_| !has_number).map_or(Ok(()), |store| changes.found_store(store))
    })
}

/// The partitions that do not belong to another store; all, if this one has no number.
fn of_store(origins: &Origins, store: i64) -> Origins {
    let is_own = |origin: &Option<Origin>| store == 0 || !origin.is_some_and(|origin| origin.is_foreign(store));
    origins.iter().filter(|(_, origin)| is_own(origin)).map(|(path, origin)| (path.clone(), *origin)).collect()
}

fn highest(origins: &Origins) -> Highest {
    origins.values().flatten().fold(Highest::default(), |highest, origin| highest.max(origin.highest))
}

/// Series of points that a catalogue does not know.
fn unnamed(origins: &Origins, known: Highest) -> u64 {
    let mut found = HashSet::new();
    for path in origins.keys() {
        let read = || -> rusqlite::Result<Vec<u32>> {
            let connection = sqlite::open_to_read(path)?;
            let mut series = connection.prepare("SELECT DISTINCT series FROM block WHERE series > ?1 AND series < ?2")?;
            series.query_map([known.series, FIRST_PART], |row| row.get(0))?.collect()
        };
        found.extend(read().unwrap_or_default());
    }
    found.len() as u64
}

/// The first fault that SQLite's own check finds in a file.
fn fault_of(path: &Path) -> Option<String> {
    let checked = sqlite::open_to_read(path).and_then(|file| sqlite::check_integrity(&file)).at("read", path);
    checked.map_or_else(|error| Some(error.reason()), |faults| faults.into_iter().next())
}

/// All databases below a folder.
fn databases_in(folder: &Path, found: &mut Vec<PathBuf>) -> Result<(), StoreError> {
    for entry in fs::read_dir(folder).at("read the folder", folder)? {
        let path = entry.at("read the folder", folder)?.path();
        if path.is_dir() {
            databases_in(&path, found)?;
        } else if path.extension().is_some_and(|extension| extension == "db") {
            found.push(path);
        }
    }
    Ok(())
}
