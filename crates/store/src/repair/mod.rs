//! Makes a store that does not start, or has damaged files, usable again: says first what it found and what it would do.
//!
//! Nothing is deleted: a file that is replaced or taken out goes into the folder `damaged` of the store.

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
        files::{Files, companion, is_filled, sync_folder},
        sqlite::{self, Use},
    },
    error::{Context, StoreError},
    journal,
    levels::records_of,
    missing::inventory::{LOST, THERE},
    partition::origin::{Highest, Origin, origin_of},
    repair::salvage::{Salvaged, damaged_block, salvage},
    startup::identity::partition_files,
};

/// What is wrong with a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Finding {
    /// It is not there, or holds nothing.
    Missing,
    /// It cannot be read, or is not what was written: why.
    Damaged(String),
    /// It belongs to another store.
    Foreign,
    /// A catalogue that does not know all series of the points.
    Older {
        /// The highest id of a series in the points.
        found: u32,
        /// The highest id that the catalogue has given.
        known: u32,
    },
}

/// What can be done about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Remedy {
    /// Take the catalogue of a backup. Points of series that came later have no names, and are not used.
    TakeCatalogue {
        /// Series without names.
        unnamed: u64,
    },
    /// Keep the catalogue, and never give the ids of unknown series again. Their points are not used.
    KeepCatalogue {
        /// Series without names.
        unnamed: u64,
    },
    /// Take the file of a backup.
    TakeFile,
    /// Write the readable blocks into a new file, together with those of a backup if it has the file.
    Salvage {
        /// Whether the backup has it.
        has_backup: bool,
    },
    /// Take it out: its windows are made again from points. Windows whose points have expired are lost.
    MakeAgain,
    /// Take it out of the store.
    TakeOut,
    /// Nothing without a backup.
    NeedsBackup,
    /// Nothing here: start the service, and accept the loss there.
    AcceptLoss,
}

/// One file and what can be done about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RepairStep {
    /// Below the store's directory.
    pub file: String,
    /// What is wrong with it.
    pub finding: Finding,
    /// What would be done.
    pub remedy: Remedy,
}

/// What is wrong with a store, and what would be done about it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RepairPlan {
    /// Files that were checked.
    pub checked: u64,
    /// In the order in which they are done.
    pub steps: Vec<RepairStep>,
}

/// Checks all files of a store that no service has open, and plans what can be done, with the help of a backup if one is given.
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

/// A partition and what it says of itself; none if it cannot be read.
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
        let mut plan = RepairPlan::default();
        let origins = self.origins()?;
        let catalogue = self.plan_catalogue(&origins, &mut plan)?;
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
        Ok(plan)
    }

    /// The catalogue that counts after the repair; none if there is none.
    fn plan_catalogue(&self, origins: &Origins, plan: &mut RepairPlan) -> Result<Option<Records>, StoreError> {
        plan.checked += 1;
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
                let known = records.highest()?;
                if let Some((found, known)) = highest(origins).above(known) {
                    let remedy = Remedy::KeepCatalogue { unnamed: unnamed(origins, records.highest()?) };
                    plan.steps.push(RepairStep { file: CATALOGUE.to_owned(), finding: Finding::Older { found, known }, remedy });
                }
                Ok(Some(records))
            }
            // A store without points is a new one.
            Err(Finding::Missing) if origins.is_empty() && journal::files(&self.files.journals())?.is_empty() => Ok(None),
            Err(finding) => {
                let taken = if self.in_backup(CATALOGUE) { Some(self.take_catalogue(origins)?) } else { None };
                let remedy = match &taken {
                    Some(records) => Remedy::TakeCatalogue { unnamed: unnamed(origins, records.highest()?) },
                    None => Remedy::NeedsBackup,
                };
                plan.steps.push(RepairStep { file: CATALOGUE.to_owned(), finding, remedy });
                Ok(taken)
            }
        }
    }

    /// A copy of the backup's catalogue, beside the place of the store's own.
    fn take_catalogue(&self, origins: &Origins) -> Result<Records, StoreError> {
        let (source, copy) = (self.file_of_backup(CATALOGUE)?, companion(&self.files.catalogue(), ".taken"));
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

    /// Partitions that the catalogue names and that are not there.
    fn plan_missing(&self, catalogue: &Records, origins: &Origins, plan: &mut RepairPlan) -> Result<(), StoreError> {
        let mut named = BTreeSet::new();
        for sort in [THERE, LOST] {
            named.extend(catalogue.documents(sort)?.into_iter().map(|document| document.name));
        }
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
                // Damaged records of rollups are made again when the service starts.
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
                let taken = companion(&path, ".taken");
                fs::rename(&taken, &path).at("rename to", &path)?;
                remove_database(&taken)?;
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

    /// Moves a file with its companions, or a folder, out of the store.
    fn put_aside(&self, path: &Path, name: &str, aside: &Path) -> Result<(), StoreError> {
        let to = aside.join(name);
        to.parent().map_or(Ok(()), |folder| fs::create_dir_all(folder).at("create the folder", folder))?;
        for suffix in ["", "-wal", "-shm"] {
            let from = companion(path, suffix);
            if from.exists() {
                fs::rename(&from, companion(&to, suffix)).at("move", from)?;
            }
        }
        Ok(())
    }
}

fn remove_database(path: &Path) -> Result<(), StoreError> {
    ["", "-wal", "-shm"].iter().try_for_each(|suffix| crate::disk::files::remove_file(&companion(path, suffix)))
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

/// Makes a catalogue fit for files that are newer than it: no id or generation of theirs is given again.
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
    let checked = sqlite::open(path, Use::Blocks { page_size: 4_096 }).and_then(|file| sqlite::check_integrity(&file).at("read", path));
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
