import js from '@eslint/js';
import hooks from 'eslint-plugin-react-hooks';
import globals from 'globals';
import ts from 'typescript-eslint';

export default ts.config(
  {ignores: ['src/api/schema.d.ts']},
  js.configs.recommended,
  ...ts.configs.recommended,
  hooks.configs.flat.recommended,
  {languageOptions: {globals: globals.browser}},
);
