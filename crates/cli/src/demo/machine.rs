//! The machine of the story: the documents that the system and the disks would print, made up.

use serde_json::{Value, json};
use sieve_disk::Result;

use super::stage::{Stage, write_file};

/// How a disk is spoken to.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Transport {
    Sata,
    Sas,
    Nvme,
}

impl Transport {
    const fn name(self) -> &'static str {
        match self {
            Self::Sata => "sata",
            Self::Sas => "sas",
            Self::Nvme => "nvme",
        }
    }

    /// As stable names of devices begin.
    const fn of_stable_names(self) -> &'static str {
        match self {
            Self::Sata => "ata",
            Self::Sas => "scsi",
            Self::Nvme => "nvme",
        }
    }
}

/// One made-up disk.
struct Device {
    name: &'static str,
    model: &'static str,
    serial: &'static str,
    bytes: u64,
    /// Revolutions per minute; 0 for flash.
    rpm: u64,
    table: &'static str,
    mounted_at: Option<&'static str>,
    /// The link as negotiated, in gigabits per second; 0 where there is none to tell.
    link: u64,
    celsius: u64,
    hours: u64,
    reallocated: u64,
    /// Transfers over the cable that came broken.
    link_errors: u64,
    /// How much of the life of its flash is used, in per cent.
    flash_used: u64,
    transport: Transport,
    self_test: &'static str,
}

const ORDINARY: Device = Device {
    name: "",
    model: "Tarnworks T12",
    serial: "",
    bytes: 12_000_138_625_024,
    rpm: 7200,
    table: "gpt",
    mounted_at: None,
    link: 6,
    celsius: 36,
    hours: 9_412,
    reallocated: 0,
    link_errors: 0,
    flash_used: 0,
    transport: Transport::Sata,
    self_test: "Completed without error",
};

const DEVICES: [Device; 8] = [
    Device { name: "sda", serial: "TW12-88Q4K7", mounted_at: Some("/mnt/alder"), ..ORDINARY },
    Device {
        name: "sdb",
        serial: "TW12-88Q9M2",
        mounted_at: Some("/mnt/beech"),
        link: 3,
        link_errors: 17,
        celsius: 38,
        ..ORDINARY
    },
    Device {
        name: "sdc",
        model: "Kestrel K8",
        serial: "KS08-31V7C5",
        bytes: 8_001_563_222_016,
        rpm: 5400,
        mounted_at: Some("/mnt/cedar"),
        celsius: 53,
        hours: 41_877,
        reallocated: 24,
        ..ORDINARY
    },
    Device {
        name: "sdd",
        serial: "TW12-90R1X3",
        mounted_at: Some("/mnt/oak"),
        celsius: 35,
        hours: 2_210,
        ..ORDINARY
    },
    Device {
        name: "sde",
        model: "Tarnworks T4",
        serial: "TW12-8BQ4K7",
        bytes: 4_000_787_030_016,
        rpm: 5400,
        table: "dos",
        celsius: 31,
        hours: 30_155,
        self_test: "Completed: read failure",
        ..ORDINARY
    },
    Device {
        name: "sdf",
        model: "Tarnworks S8",
        serial: "TS08-4M2H9D",
        bytes: 8_001_563_222_016,
        table: "gpt",
        celsius: 40,
        hours: 21_480,
        reallocated: 7,
        transport: Transport::Sas,
        ..ORDINARY
    },
    Device {
        name: "sdg",
        model: "Kestrel Dart S1",
        serial: "KD1S-0T4P2W",
        bytes: 1_000_204_886_016,
        rpm: 0,
        celsius: 33,
        hours: 17_911,
        flash_used: 88,
        ..ORDINARY
    },
    Device {
        name: "nvme0n1",
        model: "Kestrel Dart",
        serial: "KD05-7712",
        bytes: 500_107_862_016,
        rpm: 0,
        mounted_at: Some("/"),
        link: 0,
        celsius: 44,
        hours: 15_020,
        flash_used: 11,
        transport: Transport::Nvme,
        ..ORDINARY
    },
];

/// Writes the documents into the folder `machine`.
pub(super) fn write(stage: &Stage) -> Result<()> {
    let listed: Vec<Value> = DEVICES.iter().map(block).collect();
    document(stage, "lsblk.json", &json!({ "blockdevices": listed }))?;
    let ids: String = DEVICES
        .iter()
        .map(|d| {
            let bus = d.transport.of_stable_names();
            format!("{bus}-{}_{} {}\n", d.model.replace(' ', "_"), d.serial, d.name)
        })
        .collect();
    write_file(&stage.path("machine/by-id.txt"), ids.as_bytes())?;
    DEVICES.iter().try_for_each(|d| document(stage, &format!("smart-{}.json", d.name), &report(d)))
}

fn document(stage: &Stage, name: &str, value: &Value) -> Result<()> {
    write_file(&stage.path("machine").join(name), format!("{value:#}\n").as_bytes())
}

fn block(device: &Device) -> Value {
    let partition = if device.transport == Transport::Nvme { "p1" } else { "1" };
    json!({
        "name": device.name, "type": "disk", "size": device.bytes, "model": device.model, "serial": device.serial,
        "rota": device.rpm > 0, "tran": device.transport.name(), "pttype": device.table,
        "children": [{
            "name": format!("{}{partition}", device.name), "type": "part", "fstype": "ext4",
            "uuid": uuid_of(device.serial), "mountpoints": [device.mounted_at],
        }],
    })
}

/// A uuid that stays the same from one run to the next.
fn uuid_of(serial: &str) -> String {
    let hash = blake3::hash(serial.as_bytes()).to_hex();
    format!("{}-{}-{}-{}-{}", &hash[..8], &hash[8..12], &hash[12..16], &hash[16..20], &hash[20..32])
}

fn report(device: &Device) -> Value {
    let mut report = json!({
        "device": { "name": format!("/dev/{}", device.name) },
        "model_name": device.model, "serial_number": device.serial,
        "user_capacity": { "bytes": device.bytes }, "rotation_rate": device.rpm,
        "smart_status": { "passed": true }, "temperature": { "current": device.celsius },
        "power_on_time": { "hours": device.hours },
    });
    match device.transport {
        Transport::Sata => tell_sata(device, &mut report),
        Transport::Sas => tell_sas(device, &mut report),
        Transport::Nvme => tell_nvme(device, &mut report),
    }
    report
}

/// Hours of power at the last self-test.
const fn tested_at(device: &Device) -> u64 {
    device.hours - 300
}

fn tell_sata(device: &Device, report: &mut Value) {
    let speed = |gigabits: u64| json!({ "string": format!("{gigabits}.0 Gb/s"), "units_per_second": gigabits * 10, "bits_per_unit": 100_000_000 });
    report["interface_speed"] = json!({ "max": speed(6), "current": speed(device.link) });
    let failed = device.self_test.contains("failure");
    report["ata_smart_self_test_log"] = json!({ "standard": { "table": [{
        "type": { "value": 2, "string": "Extended offline" }, "lifetime_hours": tested_at(device),
        "status": { "value": if failed { 0x70 } else { 0 }, "string": device.self_test, "passed": !failed },
    }]}});
    let count =
        |id: u64, name: &str, count: u64| json!({ "id": id, "name": name, "raw": { "value": count } });
    let mut attributes = vec![
        count(5, "Reallocated_Sector_Ct", device.reallocated),
        count(197, "Current_Pending_Sector", 0),
        count(198, "Offline_Uncorrectable", 0),
        count(199, "CRC_Error_Count", device.link_errors),
    ];
    if device.rpm == 0 {
        let left = 100 - device.flash_used;
        attributes.push(
            json!({ "id": 177, "name": "Wear_Leveling_Count", "value": left, "worst": left, "thresh": 0 }),
        );
    }
    report["ata_smart_attributes"] = json!({ "table": attributes });
}

fn tell_sas(device: &Device, report: &mut Value) {
    let counter = json!({ "total_errors_corrected": 412, "total_uncorrected_errors": 0 });
    report["scsi_grown_defect_list"] = json!(device.reallocated);
    report["scsi_error_counter_log"] = json!({ "read": counter, "write": counter, "verify": counter });
    report["scsi_self_test_0"] = json!({
        "code": { "value": 2, "string": "Background long" }, "power_on_time": { "hours": tested_at(device) },
        "result": { "value": 0, "string": device.self_test },
    });
}

fn tell_nvme(device: &Device, report: &mut Value) {
    report["nvme_smart_health_information_log"] = json!({
        "critical_warning": 0, "available_spare": 100, "available_spare_threshold": 10,
        "percentage_used": device.flash_used, "media_errors": 0,
    });
    report["nvme_self_test_log"] = json!({ "table": [{
        "self_test_code": { "value": 2, "string": "Extended" }, "power_on_hours": tested_at(device),
        "self_test_result": { "value": 0, "string": device.self_test },
    }]});
}
