package ospackage

// The tags of a header that are written or read. rpm's own names for them are other ones;
// the numbers are the format.
const (
	TagLocales            int32 = 100
	TagName               int32 = 1000
	TagVersion            int32 = 1001
	TagRelease            int32 = 1002
	TagEpoch              int32 = 1003
	TagSummary            int32 = 1004
	TagDescription        int32 = 1005
	TagBuildTime          int32 = 1006
	TagBuildHost          int32 = 1007
	TagSize               int32 = 1009
	TagVendor             int32 = 1011
	TagLicense            int32 = 1014
	TagPackager           int32 = 1015
	TagGroup              int32 = 1016
	TagURL                int32 = 1020
	TagOS                 int32 = 1021
	TagArch               int32 = 1022
	TagFileSizes          int32 = 1028
	TagFileModes          int32 = 1030
	TagFileDevices        int32 = 1033
	TagFileTimes          int32 = 1034
	TagFileDigests        int32 = 1035
	TagFileTargets        int32 = 1036
	TagFileFlags          int32 = 1037
	TagFileUsers          int32 = 1039
	TagFileGroups         int32 = 1040
	TagAfterInstall       int32 = 1024
	TagAfterInstallShell  int32 = 1086
	TagSourceRPM          int32 = 1044
	TagFileVerify         int32 = 1045
	TagProvides           int32 = 1047
	TagRequireFlags       int32 = 1048
	TagRequires           int32 = 1049
	TagRequireVersions    int32 = 1050
	TagConflictFlags      int32 = 1053
	TagConflicts          int32 = 1054
	TagConflictVersions   int32 = 1055
	TagWriter             int32 = 1064
	TagChangeTimes        int32 = 1080
	TagChangeNames        int32 = 1081
	TagChangeTexts        int32 = 1082
	TagObsoletes          int32 = 1090
	TagFileFilesystems    int32 = 1095
	TagFileInodes         int32 = 1096
	TagFileLanguages      int32 = 1097
	TagProvideFlags       int32 = 1112
	TagProvideVersions    int32 = 1113
	TagObsoleteFlags      int32 = 1114
	TagObsoleteVersions   int32 = 1115
	TagFileDirs           int32 = 1116
	TagFileNames          int32 = 1117
	TagDirs               int32 = 1118
	TagPayloadFormat      int32 = 1124
	TagPayloadPacking     int32 = 1125
	TagPayloadLevel       int32 = 1126
	TagLongSize           int32 = 5009
	TagFileDigestKind     int32 = 5011
	TagEncoding           int32 = 5062
	TagPayloadDigest      int32 = 5092
	TagPayloadDigestKind  int32 = 5093
	TagPlainPayloadDigest int32 = 5097
)

// The tags of the header with signatures, which has numbers of its own.
const (
	sigDSA             int32 = 267
	sigHeader          int32 = 268
	sigSHA1            int32 = 269
	sigLongSize        int32 = 270
	sigLongPayloadSize int32 = 271
	sigSHA256          int32 = 273
	sigSize            int32 = 1000
	sigPGP             int32 = 1002
	sigMD5             int32 = 1004
	sigGPG             int32 = 1005
	sigPayloadSize     int32 = 1007
)

// The tags of the regions that the two headers are.
const (
	regionOfSignatures int32 = 62
	regionOfHeader     int32 = 63
)
