package tosca

// Code names a kind of diagnostic. Codes are stable: scripts may depend on them. Every code has an entry in
// [Explanations] whose example triggers it; a test runs them all.
type Code string

// The codes, by the phase that reports them.
const (
	// Load.
	CodeSyntax       Code = "yaml-syntax"
	CodeDuplicateKey Code = "duplicate-key"
	CodeTooLarge     Code = "too-large"
	CodeVersion      Code = "version"
	CodeImport       Code = "import"
	// Shape of any construct.
	CodeShape       Code = "shape"
	CodeUnknownKey  Code = "unknown-key"
	CodeMissingKey  Code = "missing-key"
	CodeUnsupported Code = "unsupported"
	// Types.
	CodeUnknownType   Code = "unknown-type"
	CodeTypeRedefined Code = "type-redefined"
	CodeTypeCycle     Code = "type-cycle"
	CodeTypeKind      Code = "type-kind"
	CodeWidened       Code = "type-widened"
	// Values.
	CodeValueType   Code = "value-type"
	CodeUnitMissing Code = "unit-missing"
	CodeUnitUnknown Code = "unit-unknown"
	CodeUnitDoubt   Code = "unit-doubt"
	CodeConstraint  Code = "constraint"
	// Templates.
	CodeName               Code = "name"
	CodeUnknownProperty    Code = "unknown-property"
	CodeMissingProperty    Code = "missing-property"
	CodeUnknownCapability  Code = "unknown-capability"
	CodeUnknownRequirement Code = "unknown-requirement"
	CodeUnknownNode        Code = "unknown-node"
	CodeUnfulfilled        Code = "requirement-unfulfilled"
	CodeMismatch           Code = "capability-mismatch"
	CodeUnknownOperation   Code = "unknown-operation"
	CodeArtifact           Code = "artifact-missing"
	CodeCycle              Code = "cycle"
	CodeAbstract           Code = "abstract-type"
	CodeStatus             Code = "status"
	CodeCopy               Code = "copy"
	CodeUnused             Code = "unused"
	CodeWorkflow           Code = "workflow"
	CodeSubstitution       Code = "substitution"
	CodeSelect             Code = "select"
	// Functions.
	CodeFunction     Code = "function"
	CodeUnknownInput Code = "unknown-input"
	CodeMissingInput Code = "missing-input"
	CodeUnknownRef   Code = "unknown-reference"
	// Estate.
	CodeNotOffered Code = "not-offered"
	CodeNaming     Code = "naming-rule"
)
