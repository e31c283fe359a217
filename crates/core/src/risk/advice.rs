//! The few actions that would help most, each worked out with the same machinery as the risk itself.

use schemars::JsonSchema;
use serde::Serialize;

use super::assess::{Assessment, Conditions, Subject, assess};
use super::closed::closed_form;
use super::habit::Habit;
use super::process::{Odds, Process, RiskDisk};
use super::rates::{default_unreadable_per_bit, yearly_rate};
use crate::fate::{Composite, DiskIndex, Model, ObjectState};
use crate::pool::{DiskSpec, Media, Price};
use crate::units::{ByteLength, MAX_PARITIES};

/// Something that could be done.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
#[serde(tag = "action", rename_all = "kebab-case")]
pub enum Action {
    /// A sync now.
    SyncNow,
    /// Syncs more often.
    SyncEvery {
        /// Days from one to the next.
        days: f64,
    },
    /// What waits on a cache goes to the disks, and a sync.
    SettleNow,
    /// What waits on a cache goes to the disks more often.
    SettleEvery {
        /// Days from one settling to the next.
        days: f64,
    },
    /// Another disk beside a cache, with the same files.
    MirrorCache {
        /// Which.
        disk: String,
    },
    /// One more parity drive.
    AddParity {
        /// How large it has to be.
        #[serde(rename = "capacity_bytes")]
        capacity: ByteLength,
    },
    /// Another disk in the place of one that is likely to fail.
    Replace {
        /// Which.
        disk: String,
    },
    /// The files of a folder that lie on one disk go to another.
    Move {
        /// The folder.
        folder: String,
        /// Where its files lie now.
        from: String,
        /// Where they would go.
        to: String,
        /// How much that is.
        bytes: ByteLength,
    },
    /// All files of a folder go to one disk: fewer failures hit it, and each of those hits more of it.
    Gather {
        /// The folder.
        folder: String,
        /// Where its files would go.
        to: String,
        /// How much has to be moved for that.
        bytes: ByteLength,
        /// Failures a year that hit the folder now.
        hits: f64,
        /// Failures a year that would.
        hits_then: f64,
    },
}

/// An action, what it saves, and what it costs.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Advice {
    /// What is to be done.
    #[serde(flatten)]
    pub action: Action,
    /// Bytes less to be expected to be lost in a year.
    #[serde(rename = "saves_bytes_a_year")]
    pub saves_bytes: f64,
    /// How much smaller the probability of losing anything in a year becomes.
    #[serde(rename = "saves_chance_a_year")]
    pub saves_chance: f64,
    /// Hours that disks are busy with it, added up over the disks.
    pub disk_hours: f64,
    /// What has to be bought, if prices are known.
    pub price: Option<Price>,
}

impl Advice {
    /// Bytes saved per hour of disk time.
    pub fn per_hour(&self) -> f64 {
        self.saves_bytes / self.disk_hours.max(1.0 / 60.0)
    }
}

/// What actions cost.
pub struct Market {
    /// Hours that disks are busy with a sync now; none where none can be made.
    pub sync_hours: Option<f64>,
    /// Hours that disks are busy with a rebuild of each disk, in the order of [`DiskIndex`].
    pub rebuild_hours: Vec<f64>,
    /// All space of each disk.
    pub capacities: Vec<ByteLength>,
    /// Free space of each data disk; nothing for parity disks.
    pub free: Vec<Option<ByteLength>>,
    /// What each disk is.
    pub media: Vec<Option<Media>>,
    /// What disks cost, in hundredths a byte, by what they are, where the pool file tells a price of such a one.
    pub prices: Vec<UnitPrice>,
    /// Days from one settling to the next, and days that files wait at least, where the volume settles by a clock.
    pub settling: Option<(f64, f64)>,
    /// Bytes of each folder on each disk, and what of them is to be expected to be lost in a year.
    pub folders: Vec<FolderOnDisk>,
    /// Bytes per second when files are moved from disk to disk.
    pub move_rate: f64,
}

/// What a byte of disk costs.
#[derive(Clone, Debug, PartialEq)]
pub struct UnitPrice {
    /// The kind of disk.
    pub media: Media,
    /// Hundredths of the currency a byte.
    pub per_byte: f64,
    /// The currency.
    pub currency: String,
}

/// The files of a folder that lie on one disk.
#[derive(Clone, Debug, PartialEq)]
pub struct FolderOnDisk {
    /// The folder.
    pub folder: String,
    /// The disk.
    pub disk: usize,
    /// Their objects, as positions in the model.
    pub objects: Vec<u32>,
    /// Their bytes.
    pub bytes: f64,
    /// Bytes of them to be expected to be lost in a year.
    pub lost: f64,
    /// Failures a year that take any of them, right after a sync: those that take the most exposed one.
    pub hits: f64,
}

/// A sync that finds nothing still has to scan, and to start every disk.
const LEAST_SYNC_HOURS: f64 = 0.1;
/// Savings below this share of what is to be expected are not worth a word.
const LEAST_SHARE: f64 = 0.005;
/// Failures a year that a folder has to be spared for a word about gathering it.
const LEAST_HITS: f64 = 1e-4;
/// So many moves are worked out in full.
const MOVES_TRIED: usize = 3;
/// A folder is worth moving only if that many of its bytes lie there.
const LEAST_MOVED: f64 = 1e6;

/// Works out every action that is open, the best by disk time first; those that save next to nothing are left out.
pub fn advise(
    subject: &Subject<'_>,
    conditions: &Conditions,
    assessment: &Assessment,
    market: &Market,
) -> Vec<Advice> {
    let advisor = Advisor { subject, conditions, assessment, market };
    let mut all = Vec::new();
    all.extend(advisor.sync_now());
    all.extend(advisor.sync_more_often());
    all.extend(advisor.settle_now());
    all.extend(advisor.settle_more_often());
    all.extend(advisor.mirror_cache());
    all.extend(advisor.add_parity());
    all.extend(advisor.replace());
    all.extend(advisor.move_folder());
    let worth = assessment.odds.total().bytes * LEAST_SHARE;
    all.retain(|advice| advice.saves_bytes > worth && advice.saves_bytes > 0.0);
    all.extend(advisor.gather_folder());
    all.sort_by(|a, b| b.per_hour().total_cmp(&a.per_hour()));
    all
}

struct Advisor<'a> {
    subject: &'a Subject<'a>,
    conditions: &'a Conditions,
    assessment: &'a Assessment,
    market: &'a Market,
}

impl Advisor<'_> {
    /// What other odds save against the present ones.
    fn against(&self, action: Action, then: &Odds, disk_hours: f64, price: Option<Price>) -> Advice {
        let now = &self.assessment.odds;
        Advice {
            action,
            saves_bytes: now.total().bytes - then.total().bytes,
            saves_chance: now.any_in_a_year() - then.any_in_a_year(),
            disk_hours,
            price,
        }
    }

    /// What stays lost as long as nothing is synced, against what a sync leaves.
    fn sync_now(&self) -> Option<Advice> {
        let disk_hours = self.market.sync_hours?;
        let nothing_comes = Habit::unknown(self.conditions.disks.len());
        let of = |model: &Model| {
            let frozen = Subject { now: model, synced: model, habit: &nothing_comes, ..*self.subject };
            assess(&frozen, self.conditions).odds
        };
        let (now, then) = (of(self.subject.now), of(self.subject.synced));
        Some(Advice {
            action: Action::SyncNow,
            saves_bytes: now.total().bytes - then.total().bytes,
            saves_chance: now.any_in_a_year() - then.any_in_a_year(),
            disk_hours,
            price: None,
        })
    }

    fn sync_more_often(&self) -> Option<Advice> {
        self.market.sync_hours?;
        let interval = self.conditions.sync_interval;
        let days = if interval > 2.0 { 1.0 } else { interval / 2.0 };
        let more = super::DAYS / days - super::DAYS / interval;
        let other = Process { sync_interval: days, ..self.assessment.process.clone() };
        let hours = more * LEAST_SYNC_HOURS * self.conditions.disks.len() as f64;
        Some(self.against(Action::SyncEvery { days }, &closed_form(&other), hours, None))
    }

    /// The disks that are caches, and the bytes that wait on each.
    fn caches(&self) -> Vec<(usize, f64)> {
        let model = self.subject.now;
        let waiting = |disk: usize| {
            let objects = model.objects.iter().filter(|object| usize::from(object.disk.0) == disk);
            objects.map(|object| object.size.exact() as f64).sum()
        };
        let caches = (0..self.conditions.disks.len()).filter(|disk| self.conditions.disks[*disk].is_cache);
        caches.map(|disk| (disk, waiting(disk))).collect()
    }

    /// The same volume without what waits: on the disks it is as safe as what lies there.
    fn settle_now(&self) -> Option<Advice> {
        let caches = self.caches();
        let bytes: f64 = caches.iter().map(|(_, bytes)| bytes).sum();
        if bytes <= 0.0 || self.subject.habit.waiting.is_some() {
            return None;
        }
        let is_waiting = |disk: DiskIndex| caches.iter().any(|(cache, _)| *cache == usize::from(disk.0));
        let objects = self.subject.now.objects.iter().zip(self.subject.names);
        let names: Vec<u32> =
            objects.map(|(object, names)| if is_waiting(object.disk) { 0 } else { *names }).collect();
        let other = assess(&Subject { names: &names, ..*self.subject }, self.conditions);
        let hours = 2.0 * bytes / self.market.move_rate / 3600.0;
        Some(self.against(Action::SettleNow, &other.odds, hours, None))
    }

    /// Twice as often by the clock: what waits on average is less.
    fn settle_more_often(&self) -> Option<Advice> {
        let ((every, after), waiting) = (self.market.settling?, self.subject.habit.waiting?);
        let (days, share) = (every / 2.0, (every / 4.0 + after) / (every / 2.0 + after));
        let waiting =
            super::Waiting { files: waiting.files * share, bytes: waiting.bytes * share, ..waiting };
        let habit = Habit { waiting: Some(waiting), ..self.subject.habit.clone() };
        let other = assess(&Subject { habit: &habit, ..*self.subject }, self.conditions);
        // As much is moved as before; only the disks are woken more often.
        let hours = (super::DAYS / days - super::DAYS / every) * LEAST_SYNC_HOURS;
        Some(self.against(Action::SettleEvery { days }, &other.odds, hours, None))
    }

    /// Each file of the fullest cache on two disks: both have to fail to take it.
    fn mirror_cache(&self) -> Option<Advice> {
        let (cache, bytes) = self.caches().into_iter().max_by(|a, b| a.1.total_cmp(&b.1))?;
        let position = self.conditions.disks.len();
        let twin = DiskIndex(u16::try_from(position).ok()?);
        let with_copies = |model: &Model| {
            let mut model = model.clone();
            for object in 0..model.objects.len() {
                if usize::from(model.objects[object].disk.0) == cache {
                    let copy = u32::try_from(model.objects.len()).unwrap_or(u32::MAX);
                    model.objects.push(ObjectState { disk: twin, ..model.objects[object] });
                    model.composites.push(Composite::of_copies(vec![object as u32, copy]));
                }
            }
            model
        };
        let (now, synced) = (with_copies(self.subject.now), with_copies(self.subject.synced));
        let mut names = self.subject.names.to_vec();
        names.resize(now.objects.len(), 0);
        let mut conditions = self.conditions.clone();
        conditions.disks.push(RiskDisk {
            name: "its twin".into(),
            batch: None,
            ..conditions.disks[cache].clone()
        });
        conditions.per_bit.push(conditions.per_bit[cache]);
        let mut habit = self.subject.habit.clone();
        if let Some(waiting) = &mut habit.waiting {
            waiting.copies += 1;
        }
        let subject = Subject { now: &now, synced: &synced, names: &names, habit: &habit, ..*self.subject };
        let other = assess(&subject, &conditions);
        let action = Action::MirrorCache { disk: self.conditions.disks[cache].name.clone() };
        let hours = 2.0 * bytes / self.market.move_rate / 3600.0;
        let price = self.price_of(cache, self.market.capacities[cache]);
        Some(self.against(action, &other.odds, hours, price))
    }

    /// The same volume with a parity that is valid wherever all of a row can be had.
    fn add_parity(&self) -> Option<Advice> {
        if self.subject.synced.parities.len() >= MAX_PARITIES {
            return None;
        }
        let largest = (0..self.market.capacities.len())
            .filter(|disk| self.market.free[*disk].is_some())
            .max_by_key(|disk| self.market.capacities[*disk])?;
        let capacity = self.market.capacities[largest];
        let with = |model: &Model| {
            let mut model = model.clone();
            model.add_parity(self.conditions.disks.len());
            model
        };
        let (now, synced) = (with(self.subject.now), with(self.subject.synced));
        let subject = Subject { now: &now, synced: &synced, ..*self.subject };
        let mut conditions = self.conditions.clone();
        conditions.disks.push(self.new_disk("another parity", self.market.media[largest]));
        conditions.per_bit.push(default_unreadable_per_bit(self.market.media[largest]));
        let other = assess(&subject, &conditions);
        // It is computed from all data disks, as a lost parity drive would be.
        let hours = self.market.rebuild_hours.iter().copied().fold(0.0, f64::max);
        let action = Action::AddParity { capacity };
        Some(self.against(action, &other.odds, hours, self.price_of(largest, capacity)))
    }

    /// The disk whose replacement by a new one saves most.
    fn replace(&self) -> Option<Advice> {
        let fresh = |disk: usize| self.new_disk("new", self.market.media[disk]).rate;
        let worn =
            (0..self.conditions.disks.len()).filter(|disk| self.conditions.disks[*disk].rate > fresh(*disk));
        let replaced = worn.map(|worn| {
            let mut other = self.assessment.process.clone();
            other.disks[worn].rate = fresh(worn);
            other.disks[worn].batch = None;
            let action = Action::Replace { disk: other.disks[worn].name.clone() };
            let price = self.price_of(worn, self.market.capacities[worn]);
            self.against(action, &closed_form(&other), self.market.rebuild_hours[worn], price)
        });
        replaced.max_by(|a, b| a.saves_bytes.total_cmp(&b.saves_bytes))
    }

    /// The move of one folder off one disk that saves most: valued with where it lands.
    fn move_folder(&self) -> Option<Advice> {
        let moves = self.likely_moves().into_iter().map(|(part, to)| {
            let (mut now, mut synced) = (self.subject.now.clone(), self.subject.synced.clone());
            now.move_objects(&part.objects, DiskIndex(to as u16));
            synced.move_objects(&part.objects, DiskIndex(to as u16));
            let subject = Subject { now: &now, synced: &synced, ..*self.subject };
            let other = assess(&subject, self.conditions);
            let name = |disk: usize| self.conditions.disks[disk].name.clone();
            let action = Action::Move {
                folder: part.folder.clone(),
                from: name(part.disk),
                to: name(to),
                bytes: ByteLength::new(part.bytes as u64),
            };
            let hours = 2.0 * part.bytes / self.market.move_rate / 3600.0;
            self.against(action, &other.odds, hours, None)
        });
        moves.max_by(|a, b| a.saves_bytes.total_cmp(&b.saves_bytes)).filter(|best| best.saves_bytes > 0.0)
    }

    /// The moves that are worth a close look: those that would save most if a folder fared on the other disk as what
    /// lies there does.
    fn likely_moves(&self) -> Vec<(&FolderOnDisk, usize)> {
        let disks = self.conditions.disks.len();
        let (mut bytes, mut lost) = (vec![0.0; disks], vec![0.0; disks]);
        for part in &self.market.folders {
            bytes[part.disk] += part.bytes;
            lost[part.disk] += part.lost;
        }
        // Where nothing lies, as on the disk that fares best.
        let fares = |disk: usize| if bytes[disk] > 0.0 { lost[disk] / bytes[disk] } else { 0.0 };
        let mut likely = Vec::new();
        for part in self.market.folders.iter().filter(|part| part.bytes >= LEAST_MOVED) {
            for to in (0..disks).filter(|to| *to != part.disk && !self.conditions.disks[*to].is_cache) {
                let has_room = self.market.free[to].is_some_and(|free| free.exact() as f64 >= part.bytes);
                let saves = part.lost - part.bytes * fares(to);
                if has_room && saves > 0.0 {
                    likely.push((saves, part, to));
                }
            }
        }
        likely.sort_by(|a, b| b.0.total_cmp(&a.0));
        likely.truncate(MOVES_TRIED);
        likely.into_iter().map(|(_, part, to)| (part, to)).collect()
    }

    /// The folder that most failures fewer would hit if it lay on one disk.
    fn gather_folder(&self) -> Option<Advice> {
        let parts = &self.market.folders;
        let mut best: Option<(f64, Action, f64)> = None;
        for folder in parts.iter().map(|part| &part.folder).collect::<std::collections::BTreeSet<_>>() {
            let of_folder = || parts.iter().filter(|part| part.folder == *folder && part.bytes > 0.0);
            let (bytes, hits): (f64, f64) =
                of_folder().fold((0.0, 0.0), |(bytes, hits), part| (bytes + part.bytes, hits + part.hits));
            for to in of_folder() {
                let moved = bytes - to.bytes;
                let has_room = self.market.free[to.disk].is_some_and(|free| free.exact() as f64 >= moved);
                let saves = hits - to.hits;
                if has_room && moved >= LEAST_MOVED && saves > best.as_ref().map_or(LEAST_HITS, |b| b.0) {
                    let action = Action::Gather {
                        folder: folder.clone(),
                        to: self.conditions.disks[to.disk].name.clone(),
                        bytes: ByteLength::new(moved as u64),
                        hits,
                        hits_then: to.hits,
                    };
                    best = Some((saves, action, moved));
                }
            }
        }
        let (_, action, moved) = best?;
        let disk_hours = 2.0 * moved / self.market.move_rate / 3600.0;
        Some(Advice { action, saves_bytes: 0.0, saves_chance: 0.0, disk_hours, price: None })
    }

    /// A new disk of a kind, as it is bought; it takes as long to rebuild as the slowest of the others.
    fn new_disk(&self, name: &str, media: Option<Media>) -> RiskDisk {
        let spec = DiskSpec { media: media.or(Some(Media::Hdd)), ..DiskSpec::default() };
        let window = self.conditions.disks.iter().map(|d| d.window).fold(0.0, f64::max);
        RiskDisk {
            name: name.into(),
            rate: yearly_rate(&spec, Some(0.0), 1.0).per_year(),
            batch: None,
            window,
            is_cache: false,
        }
    }

    /// What a disk of the kind of another costs; none where no price of such a one is known.
    fn price_of(&self, like: usize, capacity: ByteLength) -> Option<Price> {
        let media = self.market.media[like].unwrap_or(Media::Hdd);
        let known = self.market.prices.iter().find(|price| price.media == media)?;
        let hundredths = (known.per_byte * capacity.exact() as f64).round() as u64;
        Some(Price { hundredths, currency: known.currency.clone() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fate::{LostSet, Standing};
    use crate::paper::PaperVolume;
    use crate::pool::parse;
    use crate::units::GRANULE;

    const DISKS: usize = 4;

    /// Three data disks and a parity; every tenth file changed since the sync.
    fn models() -> (Model, Model) {
        let text = "[pool]\nname = \"p\"\n".to_string()
            + &["a", "b", "c", "o"]
                .map(|n| format!("[[disk]]\nname = \"{n}\"\ncapacity = \"1 GB\"\n"))
                .concat()
            + "[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [\"a\", \"b\", \"c\"]\nparity = [\"o\"]\n";
        let spec = parse(&text).spec.unwrap();
        let mut volume = PaperVolume::new(&spec, &spec.volumes[0]).unwrap();
        for number in 0..90 {
            volume.add(&format!("f/{number}"), ByteLength::new((1 + number % 13) * GRANULE)).unwrap();
        }
        let synced = volume.model().clone();
        let mut now = synced.clone();
        for object in now.objects.iter_mut().step_by(10) {
            object.standing = Standing::Changed;
            for piece in now.lanes.iter_mut().flat_map(|l| &mut l.pieces) {
                piece.stale |= Some(piece.version) == object.version;
            }
        }
        (now, synced)
    }

    fn conditions() -> Conditions {
        let disk = |n: usize| RiskDisk {
            name: ["a", "b", "c", "o"][n].into(),
            rate: [0.05, 0.4, 0.06, 0.05][n],
            batch: None,
            window: 0.01,
            is_cache: false,
        };
        Conditions {
            disks: (0..DISKS).map(disk).collect(),
            per_bit: vec![1e-12; DISKS],
            batch_factor: 1.0,
            sync_interval: 8.0,
        }
    }

    fn market() -> Market {
        Market {
            sync_hours: Some(0.5),
            rebuild_hours: vec![4.0; DISKS],
            capacities: vec![ByteLength::new(1_000_000_000); DISKS],
            free: vec![Some(ByteLength::new(900_000_000)), Some(ByteLength::ZERO), None, None],
            media: vec![None; DISKS],
            prices: vec![UnitPrice { media: Media::Hdd, per_byte: 2.5e-6, currency: "EUR".into() }],
            settling: None,
            folders: Vec::new(),
            move_rate: 1e8,
        }
    }

    fn advice(market: &Market) -> (Assessment, Vec<Advice>) {
        let (now, synced) = models();
        let (names, missing) = (vec![1; now.objects.len()], LostSet::new());
        let habit = Habit::given(&synced, &names, conditions().disks.len(), 1e5);
        let subject = Subject { now: &now, synced: &synced, missing: &missing, names: &names, habit: &habit };
        let assessment = assess(&subject, &conditions());
        let advice = advise(&subject, &conditions(), &assessment, market);
        (assessment, advice)
    }

    fn find(advice: &[Advice], wanted: impl Fn(&Action) -> bool) -> &Advice {
        advice.iter().find(|a| wanted(&a.action)).unwrap_or_else(|| panic!("{advice:?}"))
    }

    #[test]
    fn each_action_saves_what_the_changed_process_says() {
        let (assessment, advice) = advice(&market());
        let total = assessment.odds.total().bytes;
        let daily = Process { sync_interval: 1.0, ..assessment.process.clone() };
        let often = find(&advice, |a| matches!(a, Action::SyncEvery { days } if (days - 1.0).abs() < 1e-9));
        assert!((often.saves_bytes - (total - closed_form(&daily).total().bytes)).abs() < 1e-6);
        let replace = find(&advice, |a| matches!(a, Action::Replace { .. }));
        assert_eq!(replace.action, Action::Replace { disk: "b".into() }, "the one that fails most");
        assert!(replace.saves_chance > 0.0 && replace.saves_bytes < total);
        let price = replace.price.as_ref().unwrap();
        assert_eq!((price.hundredths, price.currency.as_str()), (2500, "EUR"));
        let now = find(&advice, |a| *a == Action::SyncNow);
        assert!((now.disk_hours - 0.5).abs() < 1e-12);
        let parity = find(&advice, |a| matches!(a, Action::AddParity { .. }));
        assert!(parity.saves_bytes > 0.0 && parity.saves_bytes < total);
        let per_hour: Vec<f64> = advice.iter().map(Advice::per_hour).collect();
        assert!(per_hour.windows(2).all(|pair| pair[0] >= pair[1]), "{per_hour:?}");
    }

    #[test]
    fn a_cache_is_settled_or_mirrored() {
        let (mut now, mut synced) = models();
        // Two files wait on a fifth disk that takes part in no parity.
        for model in [&mut now, &mut synced] {
            for size in [40, 60] {
                let waiting = ObjectState {
                    disk: DiskIndex(4),
                    size: ByteLength::new(size * GRANULE),
                    version: None,
                    standing: Standing::Same,
                    older: None,
                    catalogued: None,
                };
                model.objects.push(waiting);
            }
        }
        let mut conditions = conditions();
        let flint = RiskDisk { name: "flint".into(), rate: 0.02, batch: None, window: 0.01, is_cache: true };
        conditions.disks.push(flint);
        conditions.per_bit.push(0.0);
        let (names, missing) = (vec![1; now.objects.len()], LostSet::new());
        let habit = Habit::unknown(conditions.disks.len());
        let subject = Subject { now: &now, synced: &synced, missing: &missing, names: &names, habit: &habit };
        let assessment = assess(&subject, &conditions);
        let waiting = (100 * GRANULE) as f64;
        let cache = assessment.odds.causes[&super::super::Cause::Cache];
        assert!((cache.bytes / (0.02 * waiting) - 1.0).abs() < 0.02, "{cache:?}: once in fifty years");
        let market = Market {
            rebuild_hours: vec![4.0; 5],
            capacities: vec![ByteLength::new(1_000_000_000); 5],
            free: vec![None; 5],
            media: vec![None; 5],
            ..market()
        };
        let told = advise(&subject, &conditions, &assessment, &market);
        let settle = find(&told, |a| *a == Action::SettleNow);
        assert!((settle.saves_bytes / cache.bytes - 1.0).abs() < 0.05, "{settle:?} {cache:?}");
        let mirror = find(&told, |a| matches!(a, Action::MirrorCache { disk } if disk == "flint"));
        // What is left is that the twin fails within the window of the first.
        assert!(
            mirror.saves_bytes > 0.99 * cache.bytes && mirror.saves_bytes < settle.saves_bytes,
            "{mirror:?}"
        );
        assert!(mirror.price.is_some());
    }

    #[test]
    fn without_a_sync_nobody_is_told_to_sync() {
        let (_, advice) = advice(&Market { sync_hours: None, ..market() });
        assert!(advice.iter().all(|a| !matches!(a.action, Action::SyncNow | Action::SyncEvery { .. })));
    }

    #[test]
    fn a_folder_moves_where_it_fares_better_and_fits() {
        let part = |disk, lost| FolderOnDisk {
            folder: "f".into(),
            disk,
            objects: (disk as u32..90).step_by(3).collect(),
            bytes: 5e6,
            lost,
            hits: 0.1 * (1 + disk) as f64,
        };
        let folders = vec![part(0, 10.0), part(1, 9e5), part(2, 20.0)];
        let (_, told) = advice(&Market { folders: folders.clone(), ..market() });
        let moved = find(&told, |a| matches!(a, Action::Move { .. }));
        let Action::Move { from, to, bytes, .. } = &moved.action else { panic!("{moved:?}") };
        assert_eq!((from.as_str(), to.as_str(), bytes.exact()), ("b", "a", 5_000_000));
        assert!(moved.saves_bytes > 0.0, "{moved:?}");
        let gathered = find(&told, |a| matches!(a, Action::Gather { .. }));
        let Action::Gather { to, bytes, hits, hits_then, .. } = &gathered.action else {
            panic!("{gathered:?}")
        };
        assert_eq!((to.as_str(), bytes.exact()), ("a", 10_000_000), "only a has room");
        assert!((hits - 0.6).abs() < 1e-9 && (hits_then - 0.1).abs() < 1e-9);
        let full = vec![None; DISKS];
        let (_, told) = advice(&Market { folders, free: full, ..market() });
        assert!(told.iter().all(|a| !matches!(a.action, Action::Move { .. })));
    }
}
