<script setup lang="ts">
// Personal profiles of tunnels: whose machine has one, making one for somebody's machine, and taking it away.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got } from '../api'
import { useActing, useReading } from '../api/asking'
import { entrancesOf } from '../look/entrance'
import { newKey, profileFile, wholeProfile } from '../look/profile'
import { moment, visible } from '../look/shape'
import Asked from './Asked.vue'

const { t, locale } = useI18n()
const reading = useReading(() => got(api.GET('/profiles', {})))
const acting = useActing()
const revoke = (id: string) =>
  acting.act(async () => {
    await got(api.POST('/profiles/revoke', { body: { profiles: [id] } }))
    await reading.again()
  })

// A profile for somebody's machine, with a key that is made here.
const { rights } = defineProps<{ rights: string }>()
const gates = useReading(() => got(api.GET('/gates')))
const entrances = computed(() => entrancesOf(gates.data ?? []))
const at = ref<{ gate: string; entrance: string }>()
const person = ref('')
const device = ref('')
const file = ref<{ who: string; until: string; name: string; href: string }>()
const make = () =>
  acting.act(async () => {
    if (!at.value) return
    if (file.value) URL.revokeObjectURL(file.value.href)
    file.value = undefined
    const key = await newKey()
    const made = await got(api.POST('/profiles', { body: { ...at.value, person: person.value, device: device.value, public_key: key.open } }))
    const whole = new Blob([wholeProfile(made.configuration, key.own)], { type: 'application/x-openvpn-profile' })
    file.value = { who: made.profile.name, until: made.profile.expires_at, name: profileFile(made.profile.device), href: URL.createObjectURL(whole) }
    device.value = ''
    await reading.again()
  })
const isOver = (until: string) => new Date(until) <= new Date()
</script>

<template>
  <section v-if="reading.data?.length || entrances.length" data-test="profiles">
    <h2>{{ t('present.profiles') }}</h2>
    <Asked :of="acting" />
    <details v-if="rights === 'configure' && entrances.length" data-test="make-profile">
      <summary>{{ t('present.make') }}</summary>
      <p class="quiet">{{ t('present.makeHow') }}</p>
      <form class="tools" @submit.prevent="make">
        <v-select v-model="at" :items="entrances" :label="t('present.entrance')" />
        <v-text-field v-model="person" name="person" :label="t('person')" :hint="t('present.whoseHow')" persistent-hint />
        <v-text-field v-model="device" name="device" :label="t('present.device')" maxlength="40" />
        <v-btn type="submit" variant="flat" color="primary" :loading="acting.busy" :disabled="!at || !person.trim() || !device.trim()">{{ t('present.makeIt') }}</v-btn>
      </form>
    </details>
    <i18n-t v-if="file" keypath="present.madeFor" tag="p" role="status" scope="global">
      <template #who>{{ visible(file.who) }}</template>
      <template #until>{{ moment(file.until, locale) }}</template>
      <template #file><a :href="file.href" :download="file.name">{{ file.name }}</a></template>
    </i18n-t>
    <div v-if="reading.data?.length" class="scroll">
      <table class="ledger">
        <thead><tr><th>{{ t('person') }}</th><th>{{ t('present.device') }}</th><th>{{ t('gate') }}</th><th>{{ t('present.made') }}</th><th>{{ t('present.used') }}</th><th>{{ t('goodUntil') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
        <tbody>
          <tr v-for="p in reading.data" :key="p.id" data-test="profile">
            <td class="person"><router-link :to="`/people/${encodeURIComponent(p.provider)}/${encodeURIComponent(p.subject)}`">{{ visible(p.name) }}</router-link></td>
            <td>{{ visible(p.device) }}</td>
            <td>{{ p.gate }}</td>
            <td class="fixed">{{ moment(p.created_at, locale) }}</td>
            <td class="fixed">{{ p.used_at ? moment(p.used_at, locale) : '—' }}</td>
            <td>
              <template v-if="p.revoked_at">{{ t('present.revoked') }} {{ moment(p.revoked_at, locale) }}<div class="quiet">{{ visible(p.revoked_by ?? '') }}</div></template>
              <template v-else-if="isOver(p.expires_at)">{{ t('present.over') }}</template>
              <template v-else>{{ moment(p.expires_at, locale) }}</template>
            </td>
            <td><v-btn v-if="!p.revoked_at && !isOver(p.expires_at)" data-test="revoke" size="small" variant="outlined" color="stop" @click="revoke(p.id)">{{ t('present.revoke') }}</v-btn></td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
h2 { font-size: 1.02rem; font-weight: 600; margin: 22px 0 14px; }
</style>
