format: verimorph-template/1
title: Access point that stands alone
models: [AP-31]
values:
  - {name: name, type: name, help: as it is called in the records}
  - {name: place, type: text, help: where it hangs}
  - {name: address, type: prefix}
  - {name: crew-vlan, type: number, from: 1, to: 4094, default: "4"}
  - {name: tills-vlan, type: number, from: 1, to: 4094, default: "8"}
  - {name: phrase, type: secret, help: of the network of the tills}
---
# access point that stands alone
box.name = {{name}}
box.place = "{{place}}"
box.address = {{address}}

wlan.crew.title = Skarnvik crew
wlan.crew.vlan = {{crew-vlan}}
wlan.crew.sign-in = person
wlan.tills.title = Skarnvik tills
wlan.tills.vlan = {{tills-vlan}}
wlan.tills.sign-in = phrase
wlan.tills.passphrase = "{{phrase}}"
