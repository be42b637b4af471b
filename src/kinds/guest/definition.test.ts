import { describe, expect, it } from "vitest";
import { newDefinition, readDefinition, withOtherImages } from "./definition";

const IMAGES = { images: new Map([["vda", "/pool/new & fine.qcow2"]]) };
/** A guest as somebody would define it who wants the host, not a guest. */
const HOSTILE = `<domain type='kvm' xmlns:qemu='http://libvirt.org/schemas/domain/qemu/1.0'>
  <name>till-1</name><uuid>7a670602-8881-4b21-9646-262c6df9f1ce</uuid><memory unit='MiB'>64</memory><vcpu>2</vcpu>
  <metadata><x:y xmlns:x='urn:x'>kept aside</x:y></metadata>
  <os><type arch='x86_64' machine='q35'>hvm</type><loader readonly='yes' type='pflash'>/etc/shadow</loader>
    <nvram>/etc/passwd</nvram><kernel>/etc/hostname</kernel><initrd>/etc/hosts</initrd><boot dev='hd'/></os>
  <devices>
    <emulator>/tmp/evil</emulator>
    <disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='/old.qcow2'/><target dev='vda' bus='virtio'/><serial>A1</serial><backingStore type='file'><source file='/etc/shadow'/></backingStore></disk>
    <disk type='block' device='disk'><source dev='/dev/sda'/><target dev='vdb' bus='virtio'/></disk>
    <disk type='file' device='cdrom'><source file='/etc/shadow'/><target dev='sda' bus='sata'/><readonly/></disk>
    <filesystem type='mount'><source dir='/'/><target dir='host'/></filesystem>
    <hostdev mode='subsystem' type='pci'><source/></hostdev>
    <interface type='bridge'><mac address='52:54:00:00:00:01'/><source bridge='br0'/><script path='/tmp/evil'/><model type='virtio'/></interface>
    <interface type='ethernet'><script path='/tmp/evil'/></interface>
    <serial type='file'><source path='/etc/cron.d/evil'/><target port='0'/></serial>
    <channel type='unix'><source mode='bind' path='/run/x.sock'/><target type='virtio' name='org.qemu.guest_agent.0'/></channel>
    <channel type='file'><source path='/etc/cron.d/evil'/></channel>
    <rng model='virtio'><backend model='random'>/etc/shadow</backend></rng>
    <input type='evdev'><source dev='/dev/input/event0'/></input><input type='tablet' bus='usb'/>
    <graphics type='vnc' port='5900' listen='0.0.0.0'><listen type='socket' socket='/run/x'/></graphics>
    <video><model type='virtio'><acceleration rendernode='/dev/dri/x'/></model></video>
    <memballoon model='virtio'/>
  </devices>
  <qemu:commandline><qemu:arg value='-drive'/></qemu:commandline>
</domain>`;

describe("the definition of a new guest", () => {
  const { xml, leftOut } = newDefinition(HOSTILE, "till-2", IMAGES);

  it("names no program, device or file of the host but the new images", () => {
    for (const word of ["/etc", "/tmp", "/dev/", "/run", "/old", "52:54", "qemu:", "0.0.0.0", "7a670602"])
      expect(xml, word).not.toContain(word);
    expect(xml).toContain("/pool/new &amp; fine.qcow2");
  });

  it("is the same guest in what is its own, and says what was not taken over", () => {
    expect(readDefinition(xml)).toMatchObject({
      name: "till-2",
      memory: 64 * 1024 * 1024,
      processors: 2,
      disks: [{ name: "vda", format: "qcow2", path: "/pool/new & fine.qcow2" }],
    });
    for (const word of [
      'firmware="efi"',
      'bridge="br0"',
      "org.qemu.guest_agent.0",
      "tablet",
      'device="cdrom"',
      "A1",
    ])
      expect(xml, word).toContain(word);
    expect(leftOut).toEqual(
      [
        "channel",
        "filesystem",
        "hostdev",
        "initrd",
        "input",
        "interface",
        "kernel",
        "qemu:commandline",
        "rng",
        "script",
      ].sort(),
    );
  });

  it("of the original is the host's own, with other images alone", () => {
    const changed = withOtherImages(HOSTILE, IMAGES);
    expect(readDefinition(changed).disks.map(({ path }) => path)).toEqual([
      "/pool/new & fine.qcow2",
      "/dev/sda",
    ]);
    for (const word of ["7a670602", "52:54:00:00:00:01", "hostdev"]) expect(changed).toContain(word);
    expect(changed).not.toContain("/old.qcow2");
  });
});

it("refuses names of disks that are no names", () => {
  expect(() => readDefinition(HOSTILE.replace("dev='vda'", "dev='../vda'"))).toThrow(
    "which no disk can have",
  );
});
