// A personal profile: the key pair is made here and its private half never leaves this browser. The gate certifies the public half for whoever is
// signed in, and the file with both is handed to the person.
'use strict'
const text = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer))).replaceAll('+', '-').replaceAll('/', '_').replaceAll('=', '')
const pem = (kind, buffer) => `-----BEGIN ${kind}-----\n${btoa(String.fromCharCode(...new Uint8Array(buffer))).match(/.{1,64}/g).join('\n')}\n-----END ${kind}-----\n`

async function make(form) {
  const pair = await crypto.subtle.generateKey({ name: 'ECDSA', namedCurve: 'P-256' }, true, ['sign'])
  const key = await crypto.subtle.exportKey('spki', pair.publicKey)
  const signed = await crypto.subtle.sign({ name: 'ECDSA', hash: 'SHA-256' }, pair.privateKey, new TextEncoder().encode(form.dataset.challenge))
  const asked = new URLSearchParams({ device: form.elements.device.value, entrance: form.elements.entrance.value, key: text(key), signature: text(signed) })
  const made = await fetch(`/.passeur/profile?${asked}`, { method: 'POST' })
  if (!made.ok) throw new Error(made.status)
  const whole = (await made.text()) + `<key>\n${pem('PRIVATE KEY', await crypto.subtle.exportKey('pkcs8', pair.privateKey))}</key>\n`
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([whole], { type: 'application/x-openvpn-profile' }))
  link.download = `${form.elements.entrance.value}.ovpn`
  link.textContent = link.download
  const done = form.parentElement.querySelector('[data-done]')
  done.hidden = false
  done.append(' ', link)
  link.click()
}

for (const form of document.querySelectorAll('form[data-challenge]')) {
  form.addEventListener('submit', (event) => {
    event.preventDefault()
    const said = form.querySelector('[role=alert]')
    said.hidden = true
    make(form).catch(() => { said.hidden = false })
  })
}
