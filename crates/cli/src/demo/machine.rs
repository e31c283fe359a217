//! The machine of the story: the documents that the system and the disks would print, made up.

use serde_json::{Value, json};
use sieve_store::Result;

use super::stage::{Stage, write_file};

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
    self_test: "Completed without error",
};

const DEVICES: [Device; 6] = [
    Device { name: "sda", serial: "TW12-88Q4K7", mounted_at: Some("/mnt/alder"), ..ORDINARY },
    Device {
        name: "sdb",
        serial: "TW12-88Q9M2",
        mounted_at: Some("/mnt/beech"),
        link: 3,
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
        name: "nvme0n1",
        model: "Kestrel Dart",
        serial: "KD05-7712",
        bytes: 500_107_862_016,
        rpm: 0,
        mounted_at: Some("/"),
        link: 0,
        celsius: 44,
        hours: 15_020,
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
            let bus = if d.rpm == 0 { "nvme" } else { "ata" };
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
    let partition = if device.rpm == 0 { "p1" } else { "1" };
    json!({
        "name": device.name, "type": "disk", "size": device.bytes, "model": device.model, "serial": device.serial,
        "rota": device.rpm > 0, "tran": if device.rpm > 0 { "sata" } else { "nvme" }, "pttype": device.table,
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
    let speed = |gigabits: u64| json!({ "string": format!("{gigabits}.0 Gb/s"), "units_per_second": gigabits * 10, "bits_per_unit": 100_000_000 });
    let mut report = json!({
        "device": { "name": format!("/dev/{}", device.name) },
        "model_name": device.model, "serial_number": device.serial,
        "user_capacity": { "bytes": device.bytes }, "rotation_rate": device.rpm,
        "smart_status": { "passed": true }, "temperature": { "current": device.celsius },
        "power_on_time": { "hours": device.hours },
    });
    let failed = device.self_test.contains("failure");
    let test = json!([{
        "type": { "string": "Extended offline" }, "lifetime_hours": device.hours - 300,
        "status": { "string": device.self_test, "passed": !failed },
    }]);
    if device.rpm == 0 {
        report["nvme_smart_health_information_log"] = json!({ "percentage_used": 11, "media_errors": 0 });
        report["nvme_self_test_log"] = json!({ "table": [{
            "self_test_code": { "string": "Extended" }, "power_on_hours": device.hours - 300,
            "self_test_result": { "value": 0, "string": device.self_test },
        }]});
        return report;
    }
    report["interface_speed"] = json!({ "max": speed(6), "current": speed(device.link) });
    report["ata_smart_self_test_log"] = json!({ "standard": { "table": test } });
    report["ata_smart_attributes"] = json!({ "table": [
        { "id": 5, "raw": { "value": device.reallocated } },
        { "id": 197, "raw": { "value": 0 } },
        { "id": 198, "raw": { "value": 0 } },
    ]});
    report
}
