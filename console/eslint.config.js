// What no page may do. Layout is nobody's business here; what can go wrong is.
import vue from 'eslint-plugin-vue'
import { defineConfig } from 'eslint/config'
import ts from 'typescript-eslint'

export default defineConfig(
  { ignores: ['dist', 'node_modules', 'src/api/schema.d.ts'] },
  ts.configs.recommended,
  vue.configs['flat/essential'],
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser } },
  },
  {
    rules: {
      // A page is named by what it shows.
      'vue/multi-word-component-names': 'off',
      // Vuetify's slots of tables and selects carry modifiers.
      'vue/valid-v-slot': ['error', { allowModifiers: true }],
      // What the service says is text, whoever wrote it.
      'vue/no-v-html': 'error',
      'vue/no-unused-refs': 'error',
      'vue/require-typed-ref': 'error',
      'no-console': 'error',
      eqeqeq: ['error', 'always', { null: 'ignore' }],
      // What was thrown is made a problem in one place: api/index.ts.
      'no-restricted-syntax': ['error', {
        selector: "TSAsExpression[typeAnnotation.typeName.name='ApiProblem']",
        message: 'Whatever was thrown is made a problem by problemOf().',
      }],
    },
  },
)
