// A device by a BACnet stack that others have written: a valve with a device object, a file for its
// image, and ReinitializeDevice with a password. Its version is the first line of the image.
const { default: Client } = require('@bacnet-js/client');
const lib = '@bacnet-js/client/dist/lib/';
const apdu = require(lib + 'apdu'), npdu = require(lib + 'npdu'), asn1 = require(lib + 'asn1');
const c = new Client({ interface: '127.0.0.1', port: +process.argv[2], broadcastAddress: '127.255.255.255' });
const own = 1234; let file = Buffer.alloc(0), version = '1.0';
const names = { 121: 'Sluice', 70: 'SV-1', 77: 'valve', 372: 'SV1-7' };
c.on('error', e => console.error('error', e.message));
c.on('whoIs', m => c.iAmResponse(m.header.sender, own, 0, 65001));
c.on('readProperty', m => {
  const { objectId, property } = m.payload, reply = v => c.readPropertyResponse(m.header.sender, m.invokeId, objectId, property, v);
  if (objectId.type === 8 && (objectId.instance === own || objectId.instance === 4194303 && !process.env.OLD)) {
    if (names[property.id]) return reply({ type: 7, value: names[property.id] });
    if (property.id === 44) return reply({ type: 7, value: version });
    if (property.id === 62) return reply({ type: 2, value: 480 });
    if (property.id === 107) return reply({ type: 9, value: 0 });
    if (property.id === 112) return reply({ type: 9, value: 0 });
    if (property.id === 75) return reply({ type: 12, value: { type: 8, instance: own } });
    return c.errorResponse(m.header.sender, 12, m.invokeId, 2, 32);
  }
  if (objectId.type === 10 && property.id === 42) return reply({ type: 2, value: file.length });
  c.errorResponse(m.header.sender, 12, m.invokeId, 1, 31);
});
c.on('writeProperty', m => {
  const { objectId, value } = m.payload;
  if (objectId.type !== 10 || value.property.id !== 42) return c.errorResponse(m.header.sender, 15, m.invokeId, 2, 40);
  file = file.subarray(0, value.value[0].value);
  c.simpleAckResponse(m.header.sender, 15, m.invokeId);
});
const ack = (m, service, fill) => {
  const b = c._getApduBuffer(m.header.sender);
  npdu.encode(b, 0, m.header.sender);
  apdu.encodeComplexAck(b, 0x30, service, m.invokeId);
  fill(b);
  c.sendBvlc(m.header.sender, b);
};
c.on('atomicWriteFile', m => {
  const { position, blocks } = m.payload;
  const data = Buffer.from(blocks[0]);
  file = Buffer.concat([file.subarray(0, position), data, file.subarray(position + data.length)]);
  ack(m, 7, b => asn1.encodeContextSigned(b, 0, position));
});
c.on('atomicReadFile', m => {
  const { position, count } = m.payload, part = file.subarray(position, position + Math.min(count, 400));
  ack(m, 6, b => {
    asn1.encodeApplicationBoolean(b, position + part.length >= file.length);
    asn1.encodeOpeningTag(b, 0);
    asn1.encodeApplicationSigned(b, position);
    asn1.encodeApplicationOctetString(b, part, 0, part.length);
    asn1.encodeClosingTag(b, 0);
  });
});
c.on('reinitializeDevice', m => {
  if (m.payload.password !== 'quoin & <sluice>') return c.errorResponse(m.header.sender, 20, m.invokeId, 4, 26);
  c.simpleAckResponse(m.header.sender, 20, m.invokeId);
  version = file.subarray(0, file.indexOf('\n')).toString();
});
c.on('listening', () => console.log('listening'));
