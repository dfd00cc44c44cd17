<script setup lang="ts">
// Copies a text, and says that it did.
import { mdiCheck, mdiContentCopy } from '@mdi/js'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

const props = defineProps<{ text: string; small?: boolean }>()
const { t } = useI18n()
const done = ref(false)
async function copy() {
  await navigator.clipboard.writeText(props.text)
  done.value = true
  setTimeout(() => (done.value = false), 1500)
}
</script>

<template>
  <v-btn v-if="small" icon size="x-small" variant="text" :aria-label="t(done ? 'copied' : 'copy')" :title="t(done ? 'copied' : 'copy')" @click="copy"><v-icon :icon="done ? mdiCheck : mdiContentCopy" size="15" /></v-btn>
  <v-btn v-else :prepend-icon="done ? mdiCheck : mdiContentCopy" size="small" variant="outlined" @click="copy">{{ t(done ? 'copied' : 'copy') }}</v-btn>
</template>
