import js from '@eslint/js'
import a11y from 'eslint-plugin-jsx-a11y'
import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'src/api/schema.ts', 'eslint.config.js'] },
  js.configs.recommended,
  ...ts.configs.strictTypeChecked,
  ...ts.configs.stylisticTypeChecked,
  hooks.configs.flat.recommended,
  a11y.flatConfigs.recommended,
  {
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      'react-hooks/exhaustive-deps': 'error',
      '@typescript-eslint/no-unnecessary-type-parameters': 'off',
      '@typescript-eslint/consistent-type-definitions': 'off', // type, throughout
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true }],
      '@typescript-eslint/no-confusing-void-expression': ['error', { ignoreArrowShorthand: true }],
      '@typescript-eslint/prefer-nullish-coalescing': ['error', { ignorePrimitives: true }], // an empty text is none
      '@typescript-eslint/no-misused-promises': ['error', { checksVoidReturn: { attributes: false } }],
      'max-len': ['error', { code: 120, ignoreStrings: true, ignoreTemplateLiterals: true, ignorePattern: 'd="M| {4}[^<{]+$' }], // texts aside
      'jsx-a11y/no-autofocus': 'off',
      'jsx-a11y/aria-role': ['error', { ignoreNonDOM: true }], // May takes the role of a user
      'react-hooks/incompatible-library': 'off', // no compiler is used
      // a dialog's first field, and where a page asks for one thing
      'jsx-a11y/no-noninteractive-tabindex': ['error', { tags: [], roles: ['region', 'tabpanel'] }], // tables that scroll
    },
  },
)
