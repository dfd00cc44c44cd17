// Passkeys (Web Authentication, level 3): a form with data-passkey asks the browser for one before it is sent. Without this
// script the form is not sent, and another way is offered beside it.
'use strict'
const bytes = (text) => Uint8Array.from(atob(text.replaceAll('-', '+').replaceAll('_', '/')), (c) => c.charCodeAt(0)).buffer
const text = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer))).replaceAll('+', '-').replaceAll('/', '_').replaceAll('=', '')
const known = (list) => (list ?? []).map((c) => ({ ...c, id: bytes(c.id) }))

function answer(credential) {
  const r = credential.response
  const out = { id: credential.id, rawId: text(credential.rawId), type: credential.type, extensions: credential.getClientExtensionResults(), response: { clientDataJSON: text(r.clientDataJSON) } }
  if (r.attestationObject) {
    out.response.attestationObject = text(r.attestationObject)
    out.response.transports = r.getTransports?.() ?? []
  } else {
    out.response.authenticatorData = text(r.authenticatorData)
    out.response.signature = text(r.signature)
    out.response.userHandle = r.userHandle ? text(r.userHandle) : null
  }
  return JSON.stringify(out)
}

async function ask(form) {
  const wanted = new URLSearchParams({ what: form.dataset.passkey, flow: form.elements.flow?.value ?? '' })
  const begun = await fetch('/.passeur/passkey', { method: 'POST', body: wanted })
  if (!begun.ok) throw new Error(begun.status)
  const { options, ceremony } = await begun.json()
  const o = options.publicKey
  o.challenge = bytes(o.challenge)
  let credential
  if (form.dataset.passkey === 'enrol') {
    o.user.id = bytes(o.user.id)
    o.excludeCredentials = known(o.excludeCredentials)
    credential = await navigator.credentials.create({ publicKey: o })
  } else {
    o.allowCredentials = known(o.allowCredentials)
    credential = await navigator.credentials.get({ publicKey: o })
  }
  form.elements.ceremony.value = ceremony
  form.elements.credential.value = answer(credential)
  form.submit()
}

for (const form of document.querySelectorAll('form[data-passkey]')) {
  form.addEventListener('submit', (event) => {
    event.preventDefault()
    const said = form.querySelector('[role=alert]')
    said.hidden = true
    ask(form).catch(() => { said.hidden = false })
  })
}
