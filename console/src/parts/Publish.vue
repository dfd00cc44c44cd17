<script setup lang="ts">
// Publishing with a note; what the service asks about is shown, and accepted by name.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type Edition, type Source } from '../api'
import { useActing } from '../api/asking'
import { visible } from '../look/shape'
import Mark from './Mark.vue'

const props = defineProps<{ source: Source; button: string }>()
const emit = defineEmits<{ published: [edition: Edition] }>()
const { t } = useI18n()
const note = ref('')
const confirm = ref(0)
const anyway = ref<string[]>([])
const acting = useActing()
const problem = computed(() => acting.problem)

async function publish(accept?: string) {
  if (accept) anyway.value.push(accept)
  await acting.act(async () => {
    const body = { ...props.source, note: note.value, anyway: anyway.value, confirm_within: confirm.value || undefined }
    emit('published', await got(api.POST('/site/publish', { body })))
  })
}
const waits = [0, 2, 5, 15, 60]
</script>

<template>
  <form class="publish" @submit.prevent="publish()">
    <v-text-field v-model="note" name="note" :label="t('note')" maxlength="500" required />
    <v-select v-model="confirm" :label="t('confirmWithin')" :items="waits.map((n) => ({ value: n, title: n ? t('confirmMinutes', { n }) : t('confirmNot') }))" class="wait" />
    <v-btn type="submit" color="primary" :disabled="!note.trim()" :loading="acting.busy" data-test="publish">{{ button }}</v-btn>
    <div v-if="problem" class="asks" role="alert">
      <p><Mark tone="stop" /> <b>{{ problem.title }}</b></p>
      <p>{{ visible(problem.message) }}</p>
      <ul v-if="problem.findings.length"><li v-for="f in problem.findings" :key="f.what + f.line"><span class="mono">{{ f.line }}</span> {{ visible(f.place) }}: {{ visible(f.what) }} <span class="quiet">{{ visible(f.remedy) }}</span></li></ul>
      <ul v-if="problem.refuses.length"><li v-for="a in problem.refuses" :key="a.gate + a.subject"><b>{{ visible(a.person) }}</b> {{ a.gate }}: {{ visible(a.then) }}</li></ul>
      <v-btn v-if="problem.anyway" color="stop" data-test="anyway" @click="publish(problem.anyway)">{{ t(`anyway.${problem.anyway}`) }}</v-btn>
    </div>
  </form>
</template>

<style scoped>
.publish { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; }
.publish > :first-child { flex: 1 1 320px; }
.wait { flex: 0 1 280px; }
.asks { flex-basis: 100%; padding: 12px 14px; background: rgb(var(--v-theme-surface)); border-inline-start: 4px solid rgb(var(--v-theme-stop)); }
.asks p { margin-bottom: 6px; }
.asks ul { margin: 0 0 10px; padding-inline-start: 18px; max-height: 260px; overflow: auto; }
</style>
