<script setup lang="ts">
// The draft: written here, kept on the version that was read, compared, rehearsed, published.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { onBeforeRouteLeave, useRouter } from 'vue-router'
import { api, found, got, type Comparison as Compared, type Draft, type Rehearsal } from '../api'
import { useActing, useReading } from '../api/asking'
import { lineOf } from '../look/reads'
import { moment, visible } from '../look/shape'
import Comparison from '../parts/Comparison.vue'
import Mark from '../parts/Mark.vue'
import Publish from '../parts/Publish.vue'
import Rehearsed from '../parts/Rehearsed.vue'
import Asked from '../parts/Asked.vue'

const props = defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const router = useRouter()
const draft = ref<Draft>()
const text = ref('')
const basedOn = ref(0)
const kept = ref('')
const comparison = ref<Compared>()
const rehearsal = ref<Rehearsal>()
const acting = useActing()
const changed = computed(() => text.value !== kept.value)
const mayWrite = computed(() => props.rights === 'configure')

function take(d: Draft) {
  draft.value = d
  text.value = kept.value = d.document
  basedOn.value = d.based_on
}

// Read again in another language, what is written here stays: the comparison alone has words.
let begun = false
const reading = useReading(async () => {
  if (!begun) await begin()
  begun = true
  await compare()
})
async function begin() {
  const there = await found(api.GET('/site/draft'))
  if (there) return take(there)
  // Nothing may be published yet: then the first edition is written here.
  const live = await found(api.GET('/site'))
  if (!live) return
  text.value = kept.value = live.document
  basedOn.value = live.number
}

async function compare() {
  comparison.value = undefined
  // With nothing published there is nothing to compare with.
  if (draft.value?.sound) comparison.value = await found(api.POST('/site/compare', { body: { after: { draft: true } } }))
}

const save = () =>
  acting.act(async () => {
    const header = draft.value ? { 'If-Match': `"${draft.value.version}"` } : { 'If-None-Match': '*' }
    take(await got(api.PUT('/site/draft', { body: { document: text.value, based_on: basedOn.value }, params: { header } })))
    rehearsal.value = undefined
    await compare()
  })
const discard = () =>
  acting.act(async () => {
    if (!draft.value) return
    await got(api.DELETE('/site/draft', { params: { header: { 'If-Match': `"${draft.value.version}"` } } }))
    kept.value = text.value
    await router.push('/editions')
  })
const rehearse = () =>
  acting.act(async () => {
    rehearsal.value = await got(api.POST('/rehearse', { body: { source: { draft: true }, days: 7 } }))
  })

const agree = () =>
  acting.act(async () => {
    const second = await got(api.POST('/site/agree', { body: { draft: true } }))
    if (draft.value) draft.value.second = second
  })

function toLine(line: number) {
  const area = document.querySelector<HTMLTextAreaElement>('.editor textarea')
  if (!area || !line) return
  area.focus()
  area.setSelectionRange(...lineOf(text.value, line))
  area.scrollTop = (area.scrollHeight * (line - 4)) / text.value.split('\n').length
}
onBeforeRouteLeave(() => !changed.value || window.confirm(t('leave')))
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('draft') }}</h1>
      <span v-if="reading.answered" class="quiet">{{ draft ? t('draftOf', { who: visible(draft.author), n: basedOn, at: moment(draft.changed_at, locale) }) : basedOn ? t('draftFrom', { n: basedOn }) : t('draftFirst') }}</span>
    </div>
    <Asked :of="reading" />
    <Asked :of="acting" />
    <template v-if="reading.answered">
      <label class="editor">
        <span class="quiet">{{ t('siteFile') }}</span>
        <textarea v-model="text" class="mono" spellcheck="false" autocomplete="off" :readonly="!mayWrite" rows="22" data-test="document" />
      </label>
      <p class="buttons">
        <v-btn v-if="mayWrite" color="primary" :disabled="!changed && !!draft" :loading="acting.busy" data-test="save" @click="save">{{ t('draftSave') }}</v-btn>
        <v-btn variant="outlined" :disabled="!draft?.sound || changed" :loading="acting.busy" data-test="rehearse" @click="rehearse">{{ t('rehearse') }}</v-btn>
        <v-btn v-if="mayWrite && draft" variant="text" color="stop" @click="discard">{{ t('draftDiscard') }}</v-btn>
        <span v-if="changed" class="notice"><Mark tone="notice" /> {{ t('unsaved') }}</span>
      </p>
      <ul v-if="draft?.findings.length" class="findings" data-test="findings">
        <li v-for="f in draft.findings" :key="f.line + f.what">
          <Mark :tone="f.severity === 'warning' ? 'notice' : 'stop'" />
          <button v-if="f.line" type="button" class="mono" @click="toLine(f.line)">{{ t('line', { n: f.line }) }}</button>
          <span>{{ visible(f.place) }}: {{ visible(f.what) }}. <span class="quiet">{{ visible(f.remedy) }}</span></span>
        </li>
      </ul>
      <template v-if="comparison && !changed">
        <h2>{{ t('would') }}</h2>
        <Comparison :comparison="comparison" />
      </template>
      <template v-if="rehearsal">
        <h2>{{ t('rehearsed.title') }}</h2>
        <Rehearsed :rehearsal="rehearsal" />
      </template>
      <div v-if="draft?.second?.wanted && !changed" class="second" data-test="second">
        <p><Mark tone="notice" /> <b>{{ t('second.title') }}</b> {{ t('second.words') }}</p>
        <p v-for="a in draft.second.given" :key="a.name + a.at"><Mark tone="pass" /> {{ t('second.agreed', { who: visible(a.name), at: moment(a.at, locale) }) }}</p>
        <v-btn v-if="mayWrite" variant="outlined" :loading="acting.busy" data-test="agree" @click="agree">{{ t('second.agree') }}</v-btn>
      </div>
      <template v-if="mayWrite && draft?.sound && !changed">
        <h2>{{ t('publish') }}</h2>
        <Publish :source="{ draft: true }" :button="t('publish')" @published="router.push('/editions')" />
      </template>
    </template>
  </section>
</template>

<style scoped>
.editor { display: block; }
textarea { display: block; width: 100%; margin-top: 4px; padding: 12px 14px; resize: vertical; line-height: 1.5; color: inherit; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); white-space: pre; overflow: auto; tab-size: 2; }
.buttons { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; margin: 10px 0; }
.notice { color: rgb(var(--v-theme-notice)); display: inline-flex; gap: 7px; align-items: center; }
.second { margin: 16px 0; padding: 12px 14px; background: rgb(var(--v-theme-surface)); border-inline-start: 4px solid rgb(var(--v-theme-notice)); }
.second p { margin-bottom: 6px; }
.findings { list-style: none; padding: 0; margin: 6px 0; }
.findings li { display: flex; gap: 9px; align-items: baseline; padding: 2px 0; }
.findings button { border: 0; padding: 0; background: none; cursor: pointer; color: rgb(var(--v-theme-primary)); text-decoration: underline; white-space: nowrap; }
h2 { font-size: 1.08rem; font-weight: 600; margin: 20px 0 8px; }
</style>
