// What is right and told once; how it is laid out is the author's.
export default {
  extends: "stylelint-config-standard",
  rules: {
    "rule-empty-line-before": null,
    "declaration-empty-line-before": null,
    "custom-property-empty-line-before": null,
    "comment-empty-line-before": null,
    "at-rule-empty-line-before": null,
    "declaration-block-single-line-max-declarations": null,
    "no-descending-specificity": null,
    "selector-class-pattern": null,
    "value-keyword-case": ["lower", { ignoreProperties: ["/^--/", "font-family"] }],
  },
};
