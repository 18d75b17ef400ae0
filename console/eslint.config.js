import prettier from 'eslint-config-prettier'
import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['node_modules', 'src/api/schema.d.ts'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: ts.parser } } },
  {
    rules: {
      'vue/multi-word-component-names': 'off',
      'vue/require-default-prop': 'off',
      'vue/max-lines-per-block': ['error', { template: 130, script: 150, style: 110, skipBlankLines: true }],
      'max-lines': ['error', { max: 290, skipBlankLines: true }],
      '@typescript-eslint/no-explicit-any': 'error',
      eqeqeq: ['error', 'always', { null: 'ignore' }],
    },
  },
  { files: ['src/components/**', 'src/workflow/**'], rules: { 'max-lines': ['error', { max: 200, skipBlankLines: true }] } },
  prettier,
)
